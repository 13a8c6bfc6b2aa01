// Words that people bring, keys that had other names, and values that are refused.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

class OwnWords : public testing::Test {
 protected:
  void SetUp() override { put_file(desk.source() + "/file.txt", "one"); }
  std::string file() { return desk.folder / "home/jobs/desk.toml"; }
  std::string hint(const std::vector<std::string>& words, int exit = 2) {
    Ran ran = desk.kestrum(words);
    EXPECT_EQ(ran.exit, exit) << words[0] << ran.out << ran.err;
    return ran.err;
  }
  bool has(const std::string& text, const std::string& words) {
    return text.find(words) != std::string::npos;
  }
  Desk desk;
};

TEST_F(OwnWords, ThatPeopleTryFirstPointToOurs) {
  desk.define({"--protection", "none"});
  for (const auto& [typed, ours] : std::vector<std::pair<std::vector<std::string>, std::string>>{
           {{"adopt", "/x"}, "shelf claim"},
           {{"find", "x"}, "trace"},
           {{"log", "desk"}, "history"},
           {{"import", "x"}, "job take"},
           {{"run", "desk", "--full"}, "--kind full"},
           {{"prune", "desk", "--dry-run"}, "--rehearse"},
           {{"prune", "desk", "-n"}, "--rehearse"},
           {{"job", "new", "x", "--exclude", "*.tmp"}, "--leave-out"},
           {{"look", "desk", "--as-of", "monday"}, "--point"},
           {{"restore", "desk", "--passphrase-file", "x"}, "--passphrase-from"},
           {{"passphrase", "desk", "--new-passphrase-file", "x"}, "--next-passphrase-from"},
           {{"passphrase", "desk", "--sheet", "x.svg"}, "--card"}}) {
    std::string told = hint(typed);
    EXPECT_TRUE(has(told, "did you mean")) << told;
    EXPECT_TRUE(has(told, ours)) << told;
  }
}

TEST_F(OwnWords, EveryCommandStandsInTheOverview) {
  std::string overview = desk.kestrum({"help"}).out;
  std::string manual = run_program({KESTRUM_PROGRAM, "--man"}).out;  // troff, nothing to paste
  const std::string head = ".SS kestrum ";
  int commands = 0;
  for (std::size_t at = 0; (at = manual.find(head, at)) != std::string::npos; ++commands) {
    at += head.size();
    std::string word = manual.substr(at, manual.find_first_of(" \n", at) - at);
    EXPECT_NE(overview.find("  " + word + "  "), std::string::npos) << word;
  }
  EXPECT_GT(commands, 20);
}

TEST_F(OwnWords, KeysThatHadAnotherNameSayWhichTheyHaveNow) {
  desk.define({"--protection", "none"});
  std::string text = read_file(file());
  for (const auto& [lines, now] : std::vector<std::pair<std::string, std::string>>{
           {"[commands]\nbefore = \"true\"\n", "before_run.command"},
           {"[commands]\nafter = \"true\"\n", "after_run.command"},
           {"[commands]\ntime_limit = \"1 minute\"\n", "before_run and after_run"}}) {
    put_file(file(), text + "\n" + lines);
    EXPECT_TRUE(
        has(hint({"job", "check", "desk"}) + desk.kestrum({"job", "check", "desk"}).out, now))
        << lines;
  }
}

TEST_F(OwnWords, EachCommandAroundARunHasItsOwnTimeLimit) {
  desk.define({"--protection", "none"});
  put_file(file(), read_file(file()) +
                       "\n[before_run]\ncommand = \"sleep 2\"\ntime_limit = \"1 minute\"\n"
                       "[after_run]\ncommand = \"sleep 100\"\ntime_limit = \"1 second\"\n");
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 1) << ran.err;
  EXPECT_TRUE(has(ran.out + ran.err, "after_run.command failed")) << ran.out << ran.err;
}

TEST_F(OwnWords, SizesWhereASlipCostsMuchWantAUnit) {
  desk.define({"--protection", "none"});
  for (const char* key : {"keep.at_most", "keep.leave_free", "destination.part_size"}) {
    EXPECT_TRUE(has(hint({"job", "set", "desk", key, "5"}), "no unit")) << key;
  }
  EXPECT_EQ(desk.kestrum({"job", "set", "desk", "keep.leave_free", "7%"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"job", "set", "desk", "keep.leave_free", "5 GB"}).exit, 0);
}

TEST_F(OwnWords, SharesThatAreNotMountedAreNoPlaces) {
  for (const char* place : {"nas:/backup", "//nas/backup", "\\\\nas\\backup"}) {
    std::string told =
        hint({"job", "new", "desk", "--from", desk.source(), "--to", place, "--same-disk"});
    EXPECT_TRUE(has(told, "is a share, not a folder")) << told;
  }
  EXPECT_FALSE(path_exists(file()));
}

TEST_F(OwnWords, APassphraseThatIsGuessedFirstIsWarnedOf) {
  desk.environment["KESTRUM_PASSPHRASE"] = "Password1";
  Ran ran = desk.kestrum(
      {"job", "new", "desk", "--from", desk.source(), "--to", desk.disk(), "--same-disk"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_TRUE(has(ran.err, "easy to guess")) << ran.err;
  EXPECT_FALSE(has(ran.err, "Password1"));
}

TEST_F(OwnWords, AFolderWithoutAShelfNamesThoseBelowIt) {
  desk.define({"--protection", "none"});
  std::string told = hint({"shelf", "claim", desk.disk()}, 5);
  EXPECT_TRUE(has(told, desk.shelf())) << told;
  told = hint({"look", "--shelf", desk.disk() + "/test-pc"}, 5);
  EXPECT_TRUE(has(told, desk.shelf())) << told;
  EXPECT_FALSE(has(hint({"shelf", "claim", desk.source()}, 5), "below it"));
}

TEST_F(OwnWords, OneKeyIsChangedAndTheRestOfTheFileStays) {
  desk.define({"--protection", "none", "--leave-out", "*.tmp"});
  put_file(file(), "# mine\n" + read_file(file()));
  EXPECT_EQ(desk.kestrum({"job", "set", "desk", "keep.for", "30 days"}).exit, 0);
  EXPECT_EQ(
      desk.kestrum({"job", "set", "desk", "source.leave_out", "*.iso", "*.bak", "--add"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"job", "set", "desk", "source.leave_out", "*.tmp", "--drop"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"job", "set", "desk", "keep.chains", "3"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"job", "set", "desk", "source.other_filesystems", "yes"}).exit, 0);
  Json keys = desk.json({"job", "show", "desk"})["keys"];
  EXPECT_EQ(keys["keep.for"], "30 days");
  EXPECT_EQ(keys["source.leave_out"], (Json{"*.iso", "*.bak"}));
  EXPECT_EQ(keys["keep.chains"], 3);
  EXPECT_EQ(keys["source.other_filesystems"], true);
  EXPECT_TRUE(read_file(file()).starts_with("# mine\n"));
  std::string before = read_file(file());
  EXPECT_TRUE(has(hint({"job", "set", "desk", "for", "30 days"}), "keep.for"));
  EXPECT_TRUE(has(hint({"job", "set", "desk", "keep.fro", "30 days"}), "keep.for"));
  hint({"job", "set", "desk", "keep.for", "a while"});
  hint({"job", "set", "desk", "keep.chains", "many"});
  hint({"job", "set", "desk", "keep.for", "1 day", "2 days"});
  hint({"job", "set", "desk", "source.leave_out", "*.odd", "--drop"});
  EXPECT_EQ(read_file(file()), before);
}

TEST_F(OwnWords, OfAJobThatIsHeldNothingIsRemoved) {
  desk.on_day(0);
  desk.define({"--protection", "none", "--keep-for", "1 day", "--new-full", "after 1 set"});
  for (int day = 0; day < 9; ++day) {
    desk.on_day(day);
    if (day == 4) {
      EXPECT_EQ(desk.kestrum({"job", "set", "desk", "keep.hold", "an audit"}).exit, 0);
    }
    std::size_t before = day < 4 ? 0 : desk.sets().size();
    put_file(desk.source() + "/file.txt", std::to_string(day));
    EXPECT_LE(desk.kestrum({"run", "desk"}).exit, 1);
    if (day >= 4) {
      EXPECT_EQ(desk.sets().size(), before + 1) << "nothing was pruned";
    }
  }
  std::set<std::string> all = desk.sets();
  for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{
           {"prune", "desk"},
           {"prune", "desk", "--to-free", "1 TB", "--break-promises"},
           {"job", "remove", "desk", "--with-sets"}}) {
    EXPECT_TRUE(has(hint(words), "an audit")) << words[0];
  }
  EXPECT_EQ(desk.sets(), all);
  Ran rehearsed = desk.kestrum({"prune", "desk", "--rehearse"});
  EXPECT_TRUE(has(rehearsed.out, "an audit")) << rehearsed.out;
  EXPECT_EQ(desk.kestrum({"job", "set", "desk", "keep.hold", ""}).exit, 0);
  EXPECT_EQ(desk.kestrum({"prune", "desk"}).exit, 0);
  EXPECT_LT(desk.sets().size(), all.size());
}

TEST_F(OwnWords, ARecoveryCardThatIsOutOfDateIsTold) {
  desk.define();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  auto why = [&] { return desk.json({"status", "desk"})["jobs"][0]["why"].dump(); };
  ASSERT_EQ(desk.kestrum({"passphrase", "desk", "--card", desk.folder / "card.svg"}).exit, 0);
  std::string card = read_file(desk.folder / "card.svg");
  for (const char* words : {"Label of the disk", "Person to ask", "Where the passphrase lies",
                            "kestrum restore --shelf", "age1"}) {
    EXPECT_TRUE(has(card, words)) << words;
  }
  EXPECT_FALSE(has(why(), "recovery card"));
  desk.environment["KESTRUM_NEXT_PASSPHRASE"] = "another one of sand";
  ASSERT_EQ(desk.kestrum({"passphrase", "desk"}).exit, 0);
  EXPECT_TRUE(has(why(), "recovery card")) << why();
  desk.environment["KESTRUM_PASSPHRASE"] = "another one of sand";
  ASSERT_EQ(desk.kestrum({"passphrase", "desk", "--card", desk.folder / "new.svg"}).exit, 0);
  EXPECT_FALSE(has(why(), "recovery card")) << why();
}

TEST_F(OwnWords, APassphraseThatIsTypedWronglyMayBeTypedAgain) {
  desk.define();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  Environment typing = desk.environment;
  typing["KESTRUM_PASSPHRASE"] = "";
  std::string restore = shell_quoted(KESTRUM_PROGRAM) + " restore desk --to ";
  Ran ran = run_dialogue(restore + (desk.folder / "out"),
                         {{"passphrase of desk: ", "salt and sun"},
                          {"passphrase of desk: ", "salt"},
                          {"passphrase of desk: ", "salt and sand"}},
                         typing);
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_EQ(read_file(desk.folder / "out/file.txt"), "one");
  ran = run_dialogue(
      restore + (desk.folder / "none"),
      {{"passphrase of desk: ", "a"}, {"passphrase of desk: ", "b"}, {"passphrase of desk: ", "c"}},
      typing);
  EXPECT_EQ(ran.exit, 7) << ran.out;
  EXPECT_EQ(ran.err, "") << "asked three times";
  EXPECT_FALSE(path_exists(desk.folder / "none"));
  // A slip is told before anybody has to type.
  for (const std::string more : {"nothing-like-it", "--point 1999-01-01", "--point soon"}) {
    Ran slip = run_dialogue(restore + (desk.folder / "none") + " " + more, {}, typing);
    EXPECT_TRUE(slip.exit == 9 || slip.exit == 2) << slip.out;
    EXPECT_EQ(slip.out.find("passphrase of"), std::string::npos) << slip.out;
  }
  // From a file or the environment it is read once.
  desk.environment["KESTRUM_PASSPHRASE"] = "salt and sun";
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "none"}).exit, 7);
}

TEST_F(OwnWords, WhatIsDoneByHandIsOnRecordWithWhoDidIt) {
  desk.environment["SUDO_USER"] = "frontdesk";
  desk.define({"--protection", "none", "--new-full", "after 1 set", "--keep-for", "1 day"});
  std::string brought = desk.folder / "desk.toml";
  put_file(brought, read_file(file()) + "\n[effort]\npriority = \"normal\"\n");
  EXPECT_EQ(desk.kestrum({"job", "take", brought}).exit, 2) << "it is not what was taken last";
  Ran taken = desk.kestrum({"job", "take", brought, "--yes"});
  EXPECT_EQ(taken.exit, 0) << taken.err;
  EXPECT_TRUE(has(taken.out, "effort.priority: \"low\" becomes \"normal\"")) << taken.out;
  EXPECT_FALSE(has(read_file(file() + ".before"), "normal"));
  EXPECT_EQ(desk.json({"job", "list"})["jobs"].size(), 1u) << "what is kept is no job";
  put_file(brought, read_file(brought) + "limit = \"20 MB/s\"\n");
  EXPECT_EQ(desk.kestrum({"job", "take", brought}).exit, 0) << "not edited here since";
  Json actions = desk.json({"history", "desk"})["actions"];
  ASSERT_EQ(actions.size(), 2u);
  EXPECT_EQ(actions[0]["what"], "take");
  EXPECT_TRUE(has(actions[0]["who"].get<std::string>(), "frontdesk")) << actions;
  EXPECT_EQ(actions[0]["host"], "test-pc");
  EXPECT_TRUE(has(desk.kestrum({"history", "desk"}).out, "frontdesk"));
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string receipt = desk.folder / "receipt";
  ASSERT_EQ(
      desk.kestrum({"restore", "desk", "--to", desk.folder / "out", "--receipt", receipt}).exit, 0);
  for (const char* words : {"test-pc", "frontdesk", "from desk of", "(set c1-0)"}) {
    EXPECT_TRUE(has(read_file(receipt), words)) << words << "\n" << read_file(receipt);
  }
}

TEST_F(OwnWords, AReaderThatGoesAwayIsNoError) {
  desk.define({"--protection", "none"});
  for (int i = 0; i < 3000; ++i) put_file(desk.source() + "/f" + std::to_string(i), "x");
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  Ran ran = run_script(std::string(KESTRUM_PROGRAM) + " look desk 2>'" + (desk.folder / "err") +
                           "' | head -n 1 >/dev/null || true",
                       desk.environment);
  EXPECT_EQ(ran.exit, 0);
  EXPECT_EQ(read_file(desk.folder / "err"), "");
}

}  // namespace
}  // namespace kestrum::test
