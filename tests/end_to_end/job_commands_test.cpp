// What is done with jobs: edit, copy, rename, remove, take, and the questions of job new.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Jobs : public testing::Test {
 protected:
  void SetUp() override { put_file(desk.source() + "/file.txt", "one"); }
  std::string file(const std::string& job) { return desk.folder / ("home/jobs/" + job + ".toml"); }
  std::size_t sets(const std::string& job) {
    std::size_t count = 0;
    Json chains = desk.json({"sets", job})["chains"];
    for (const Json& chain : chains) count += chain["sets"].size();
    return count;
  }
  // An editor that changes the file by a script of sed.
  void editor(const std::string& sed) {
    put_file(desk.folder / "editor", "#!/bin/sh\nsed -i '" + sed + "' \"$1\"\n", 0755);
    desk.environment["EDITOR"] = desk.folder / "editor";
    desk.environment["VISUAL"] = "";
  }
  Desk desk;
};

TEST_F(Jobs, AnEditIsSavedOnlyIfItIsRight) {
  desk.define({"--protection", "none"});
  std::string before = read_file(file("desk"));
  editor("s/^folders/foldrs/");
  Ran ran = desk.kestrum({"job", "edit", "desk"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_NE(ran.err.find("foldrs"), std::string::npos) << ran.err;
  EXPECT_EQ(read_file(file("desk")), before);
  editor("1i # mine\\ntitle = \"Front desk\"");
  EXPECT_EQ(desk.kestrum({"job", "edit", "desk"}).exit, 0);
  EXPECT_NE(read_file(file("desk")).find("# mine"), std::string::npos);
  EXPECT_EQ(desk.json({"job", "show", "desk"})["keys"]["title"], "Front desk");
  desk.environment["EDITOR"] = "false";
  EXPECT_EQ(desk.kestrum({"job", "edit", "desk"}).exit, 3);
  EXPECT_EQ(list_folder(parent_of(file("desk"))).size(), 1u) << "no draft is left";
}

TEST_F(Jobs, AnEditSaysWhatItMeansForTheChain) {
  desk.define({"--protection", "none"});
  editor("/^\\[source\\]/a leave_out = [\"*.bak\"]");
  Ran ran = desk.kestrum({"job", "edit", "desk"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_NE(ran.out.find("the chain goes on"), std::string::npos) << ran.out;
}

TEST_F(Jobs, ARenamedJobGoesOnWithItsChain) {
  desk.define({"--protection", "none"});
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"job", "rename", "desk", "reception"}).exit, 0);
  put_file(desk.source() + "/file.txt", "two");
  Json run = desk.json({"run", "reception"})["runs"][0];
  EXPECT_EQ(run["set"], "c1-1");
  EXPECT_EQ(sets("reception"), 2u);
  EXPECT_EQ(desk.json({"history", "reception"})["runs"].size(), 2u);
  EXPECT_TRUE(path_exists(desk.shelf() + "/shelf.json")) << "the shelf's folder keeps its name";
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 2);
  EXPECT_EQ(desk.kestrum({"job", "rename", "reception", "Reception"}).exit, 0) << "only its case";
  EXPECT_EQ(desk.kestrum({"job", "rename", "Reception", "a/b"}).exit, 2);
}

TEST_F(Jobs, ACopyHasNoShelfYet) {
  desk.define({"--protection", "none"});
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"job", "copy", "desk", "twin"}).exit, 0);
  EXPECT_EQ(read_file(file("twin")), read_file(file("desk")));
  EXPECT_EQ(desk.kestrum({"run", "twin"}).exit, 5);
  EXPECT_EQ(desk.kestrum({"shelf", "start", "twin", "--same-disk"}).exit, 0);
  EXPECT_EQ(desk.json({"run", "twin"})["runs"][0]["set"], "c1-0");
  EXPECT_EQ(desk.kestrum({"job", "copy", "desk", "TWIN"}).exit, 2);
}

TEST_F(Jobs, ARemovedJobLeavesItsSetsUnlessToldByName) {
  desk.define();
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"job", "remove", "desk", "--yes"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"job", "show", "desk"}).exit, 2);
  EXPECT_EQ(desk.kestrum({"restore", "--shelf", desk.shelf(), "--to", desk.folder / "back"}).exit,
            0);
  EXPECT_EQ(read_file(desk.folder / "back/file.txt"), "one");
  EXPECT_TRUE(!path_exists(desk.folder / "home/state/runs/desk"));
}

TEST_F(Jobs, SetsAreRemovedOnlyWhenTheNameIsTyped) {
  desk.define({"--protection", "none"});
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::vector<std::string> argv = {KESTRUM_PROGRAM, "job",         "remove",
                                   "desk",          "--with-sets", "--yes"};
  for (const char* typed : {"", "yes\n", "Desk\n"}) {
    EXPECT_NE(run_program(argv, desk.environment, typed).exit, 0);
    EXPECT_EQ(sets("desk"), 1u);
  }
  put_file(desk.disk() + "/holiday.txt", "not ours");
  EXPECT_EQ(run_program(argv, desk.environment, "desk\n").exit, 0);
  EXPECT_FALSE(path_exists(desk.shelf()));
  EXPECT_TRUE(path_exists(desk.disk() + "/holiday.txt"));
}

TEST_F(Jobs, ATakenFileIsCheckedBeforeAnythingIsWritten) {
  std::string brought = desk.folder / "brought.toml";
  put_file(brought, "format = 1\n[source]\nfolders = [\"" + desk.source() +
                        "\"]\n[schedule]\nwhen = [\"every dya\"]\n"
                        "[destination]\nplaces = [\"" +
                        desk.disk() + "\"]\n");
  Ran ran = desk.kestrum({"job", "take", brought, "--same-disk"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_NE(ran.err.find("schedule.when"), std::string::npos) << ran.err;
  EXPECT_NE(ran.err.find("every day at 21:00"), std::string::npos) << "a phrase that works";
  EXPECT_FALSE(path_exists(file("brought")));
  EXPECT_FALSE(path_exists(desk.disk() + "/test-pc"));
  EXPECT_EQ(desk.kestrum({"job", "take", desk.folder / "nothing.toml"}).exit, 3);
  EXPECT_EQ(desk.kestrum({"job", "take", desk.source() + "/file.txt"}).exit, 2);
}

TEST_F(Jobs, CheckSaysWhatEachRuleLeavesOutAndWarnsOfAFolderThatYieldsNothing) {
  put_file(desk.source() + "/song.mp3", std::string(5000, 'x'));
  put_file(desk.source() + "/big.txt", std::string(200'000, 'x'));
  fs::create_directories(desk.folder / "empty");
  desk.define({"--protection", "none", "--only", "documents", "--from", desk.folder / "empty"});
  std::string text = read_file(file("desk"));
  put_file(file("desk"), text.insert(text.find("[source]\n") + 9, "smaller_than = \"100 kB\"\n"));
  Ran ran = desk.kestrum({"job", "check", "desk"});
  EXPECT_EQ(ran.exit, 1);
  EXPECT_NE(ran.out.find("left out: 2 files, 205 kB (only: 1, smaller_than: 1)"), std::string::npos)
      << ran.out;
  EXPECT_NE(ran.out.find("empty: nothing is copied from this folder"), std::string::npos)
      << ran.out;
  Json run = desk.json({"run", "desk"}, 1)["runs"][0];
  ASSERT_EQ(run["warnings"].size(), 1u);
  EXPECT_EQ(run["warnings"][0]["path"], desk.folder / "empty");
}

TEST_F(Jobs, ANewMatchOfAFolderPatternIsNamed) {
  put_file(desk.source() + "/ann/Documents/a.txt", "a");
  desk.define({"--protection", "none", "--from", desk.folder / "homes/*/Documents"});
  put_file(desk.folder / "homes/one/Documents/a.txt", "a");
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  put_file(desk.folder / "homes/two/Documents/b.txt", "b");
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_NE(ran.err.find("a new folder matches: " + (desk.folder / "homes/two/Documents")),
            std::string::npos)
      << ran.err;
  EXPECT_EQ(desk.kestrum({"run", "desk"}).err.find("a new folder"), std::string::npos);
}

TEST_F(Jobs, TheRecoveryCardHoldsTheIdentityAsTextAndAsCode) {
  desk.define();
  std::string page = desk.folder / "page.svg";
  ASSERT_EQ(desk.kestrum({"passphrase", "desk", "--card", page}).exit, 0);
  std::string identity = read_file(desk.shelf() + "/keys/identity.age");
  for (const auto& line : split(std::string(trimmed(identity)), '\n')) {
    EXPECT_NE(read_file(page).find(">" + line + "<"), std::string::npos) << line;
  }
  if (!have_program("rsvg-convert") || !have_program("zbarimg")) GTEST_SKIP() << "no decoder here";
  std::string picture = desk.folder / "page.png";
  ASSERT_EQ(run_program({"rsvg-convert", "-d", "200", "-p", "200", page, "-o", picture}).exit, 0);
  Ran scanned = run_program({"zbarimg", "--raw", "-q", picture});
  EXPECT_EQ(scanned.out.substr(0, identity.size()), identity);
  EXPECT_EQ(desk.kestrum({"passphrase", "desk", "--card", page}).exit, 2)
      << "it is not overwritten";
}

TEST_F(Jobs, TheRecoveryCardAsPdfHoldsTheSame) {
  desk.define();
  std::string page = desk.folder / "page.pdf";
  ASSERT_EQ(desk.kestrum({"passphrase", "desk", "--card", page}).exit, 0);
  EXPECT_TRUE(read_file(page).starts_with("%PDF-1."));
  EXPECT_EQ(fs::status(page).permissions(), fs::perms::owner_read | fs::perms::owner_write);
  EXPECT_EQ(desk.kestrum({"passphrase", "desk", "--card", desk.folder / "page.doc"}).exit, 2);
  if (!have_program("pdftotext") || !have_program("zbarimg")) GTEST_SKIP() << "no reader here";
  std::string identity = read_file(desk.shelf() + "/keys/identity.age");
  std::string text = run_program({"pdftotext", "-layout", page, "-"}).out;
  for (const auto& line : split(std::string(trimmed(identity)), '\n')) {
    EXPECT_NE(text.find(line), std::string::npos) << line << " in " << text;
  }
  EXPECT_NE(text.find("Recovery card: desk"), std::string::npos);
  EXPECT_NE(text.find(desk.disk()), std::string::npos) << "the place";
  ASSERT_EQ(run_program({"pdftoppm", "-r", "200", "-png", page, desk.folder / "page"}).exit, 0);
  Ran scanned = run_program({"zbarimg", "--raw", "-q", desk.folder / "page-1.png"});
  EXPECT_EQ(scanned.out.substr(0, identity.size()), identity);
}

TEST_F(Jobs, APassphraseCanBeTried) {
  desk.define();
  EXPECT_TRUE(desk.json({"status", "desk"})["jobs"][0]["last_unlocked"].is_null());
  EXPECT_EQ(desk.kestrum({"passphrase", "desk", "--try"}).exit, 0);
  EXPECT_FALSE(desk.json({"status", "desk"})["jobs"][0]["last_unlocked"].is_null());
  desk.environment["KESTRUM_PASSPHRASE"] = "pepper and mud";
  EXPECT_EQ(desk.kestrum({"passphrase", "desk", "--try"}).exit, 7);
}

// ---- On a terminal

class Dialogue : public Jobs {
 protected:
  Ran talk(const std::string& words, const std::vector<Turn>& turns) {
    Environment environment = desk.environment;
    environment["KESTRUM_PASSPHRASE"] = "";
    environment["HOME"] = desk.folder.path();
    environment["COLUMNS"] = "100";
    return run_dialogue(shell_quoted(KESTRUM_PROGRAM) + " " + words, turns, environment);
  }
};

TEST_F(Dialogue, JobNewAsksForWhatIsMissing) {
  Ran ran = talk("job new --same-disk", {{"folder: ", desk.source() + "/nothing"},
                                         {"folder: ", desk.source()},
                                         {"folder: ", ""},
                                         {"leave out: ", "*.iso"},
                                         {"leave out: ", ""},
                                         {"kinds [all]: ", "documnts"},
                                         {"kinds [all]: ", "documents, *.dwg"},
                                         {"\nto", desk.disk()},
                                         {"name [source]: ", "front-desk"},
                                         {"kind [1]: ", ""},
                                         {"protection [1]: ", "1"},
                                         {"when [by hand]: ", "evry dya at nine"},
                                         {"when [by hand]: ", "daily at 9pm"},
                                         {"keep [14 days]: ", "1 month"},
                                         {"Define this job? [Y/n]: ", ""},
                                         {"passphrase for front-desk: ", "salt and sand"},
                                         {"once more: ", "salt and sand"},
                                         {"first run would copy? [Y/n]: ", "y"},
                                         {"Run it now? [Y/n]: ", "y"}});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_EQ(ran.err, "");
  EXPECT_NE(ran.out.find("that is 1 file, 3 bytes"), std::string::npos)
      << "the size of what was chosen";
  EXPECT_NE(ran.out.find("not clear; nearest to it is \"every day at"), std::string::npos)
      << ran.out;
  EXPECT_NE(ran.out.find("the next set is c1-0 (full)"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("c1-0 is a full set"), std::string::npos) << ran.out;
  EXPECT_EQ(ran.out.find("salt and sand"), std::string::npos) << "the passphrase is not echoed";
  Json keys = desk.json({"job", "show", "front-desk"})["keys"];
  EXPECT_EQ(keys["schedule.when"][0], "every day at 21:00");
  EXPECT_EQ(keys["keep.for"], "1 month");
  EXPECT_EQ(keys["source.leave_out"], Json{"*.iso"});
  EXPECT_EQ(keys["source.only"], (Json{"documents", "*.dwg"}));
}

TEST_F(Dialogue, ANoAtTheEndDefinesNothing) {
  Ran ran = talk(
      "job new mail --same-disk --from " + desk.source() + " --protection none --when 'every hour'",
      {{"\nto", desk.disk()},
       {"kind [1]: ", "differential"},
       {"keep [14 days]: ", "bananas"},
       {"keep [14 days]: ", ""},
       {"Define this job? [Y/n]: ", "n"}});
  EXPECT_EQ(ran.exit, 130) << ran.out;
  EXPECT_EQ(ran.err, "");
  EXPECT_NE(ran.out.find("every hour at :00"), std::string::npos) << ran.out;
  EXPECT_FALSE(path_exists(file("mail")));
  EXPECT_TRUE(list_folder(desk.disk()).empty());
}

TEST_F(Dialogue, RemovingAsksFirst) {
  desk.define({"--protection", "none"});
  EXPECT_EQ(talk("job remove desk", {{"[y/N]: ", ""}}).exit, 130);
  EXPECT_TRUE(path_exists(file("desk")));
  EXPECT_EQ(talk("job remove desk", {{"[y/N]: ", "y"}}).exit, 0);
  EXPECT_FALSE(path_exists(file("desk")));
}

// Names are bytes, and a job file is text.
TEST(FoldersThatAreNotUtf8, AreTakenAsTyped) {
  Desk desk;
  const std::string odd = desk.source() + "/caf\xe9 [1]", shown = desk.source() + "/caf\\xe9 \\[1]";
  put_file(odd + "/menu", "soup");
  put_file(desk.source() + "/caf\xe8/menu", "not asked for");
  Ran made = desk.kestrum({"job", "new", "desk", "--from", odd, "--to", desk.disk(), "--same-disk",
                           "--protection", "none", "--leave-out", "*.\xfe"});
  ASSERT_EQ(made.exit, 0) << made.err;
  EXPECT_NE(made.out.find(shown), std::string::npos) << made.out;
  put_file(odd + "/x.\xfe", "left out");
  EXPECT_EQ(desk.json({"job", "list"})["jobs"][0]["folders"], Json{shown});
  EXPECT_EQ(desk.kestrum({"job", "check", "desk"}).exit, 0);
  EXPECT_EQ(desk.json({"forecast", "desk"})["files"]["copied"], 1);
  Json ran = desk.json({"run", "desk"})["runs"][0];
  EXPECT_EQ(ran["files"]["copied"], 1);
  EXPECT_EQ(ran["files"]["left_out"], 1);
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "back"}).exit, 0);
  EXPECT_EQ(read_file(desk.folder / "back/menu"), "soup");
  EXPECT_EQ(desk.json({"status", "desk"})["jobs"][0]["state"], "fine");
}

// A pattern finds such a folder on the way: what is said of it must not end the run.
TEST(FoldersThatAreNotUtf8, AreNamedWhereAPatternFindsThem) {
  Desk desk;
  put_file(desk.source() + "/one/docs/file", "1");
  ASSERT_EQ(desk.kestrum({"job", "new", "desk", "--from", desk.source() + "/*/docs", "--to",
                          desk.disk(), "--same-disk", "--protection", "none"})
                .exit,
            0);
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  put_file(desk.source() + "/\xff/docs/file", "2");
  Json ran = desk.json({"run", "desk"})["runs"][0];
  EXPECT_EQ(ran["files"]["copied"], 1) << ran.dump(1);
  std::filesystem::rename(desk.source() + "/\xff", desk.folder / "away");
  Json away = desk.json({"run", "desk"}, 1)["runs"][0];
  EXPECT_EQ(away["files"]["absent"], 1) << away.dump(1);
  EXPECT_EQ(desk.json({"history", "desk"})["runs"].size(), 3U);
}

}  // namespace
}  // namespace kestrum::test
