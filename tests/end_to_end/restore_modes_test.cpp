// Every way of giving files back.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <filesystem>
#include <map>
#include <set>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class RestoreModes : public testing::Test {
 protected:
  void SetUp() override {
    on_day(0);
    desk.define({"--protection", "none"});
  }
  void on_day(int day) { desk.on_day(day); }
  void run(int day) {
    on_day(day);
    ASSERT_LE(desk.kestrum({"run", "desk"}).exit, 1);
  }
  std::string file(const std::string& name) { return desk.source() + "/" + name; }
  std::string to(const std::string& name = "") { return desk.folder / ("back" + name); }
  Ran restore(std::vector<std::string> words) {
    words.insert(words.begin(), {"restore", "desk"});
    return desk.kestrum(words);
  }
  std::set<std::string> names_in(const std::string& folder) {
    std::set<std::string> names;
    for (const auto& name : list_folder(folder)) names.insert(name);
    return names;
  }
  Desk desk;
};

struct ClashCase {
  const char* clash;
  std::string there;  // of the file afterwards
  std::set<std::string> names;
  int exit;
};

TEST_F(RestoreModes, AClashIsSettledAsToldAndWhatIsRightIsLeftAlone) {
  put_file(file("rota.ods"), "from the backup");
  put_file(file("same.txt"), "same");
  run(0);
  for (const ClashCase& c :
       {ClashCase{"skip", "mine", {"rota.ods", "same.txt"}, 1},
        ClashCase{"replace", "from the backup", {"rota.ods", "same.txt"}, 0},
        ClashCase{"both", "mine", {"rota.of-2026-03-01-2100.ods", "rota.ods", "same.txt"}, 0},
        ClashCase{"replace-older", "mine", {"rota.ods", "same.txt"}, 1}}) {
    fs::remove_all(to());
    put_file(to("/rota.ods"), "mine");
    put_file(to("/same.txt"), "same");
    for (int again = 0; again < 2; ++again) {
      Ran ran = restore({"--to", to(), "--clash", c.clash});
      EXPECT_EQ(ran.exit, c.exit) << c.clash << ran.out << ran.err;
      EXPECT_EQ(names_in(to()), c.names) << c.clash << ", and repeating it changes nothing";
      EXPECT_EQ(read_file(to("/rota.ods")), c.there) << c.clash;
    }
  }
  EXPECT_EQ(read_file(to("/rota.ods")), "mine");
  fs::last_write_time(to("/rota.ods"), fs::file_time_type::clock::now() - std::chrono::hours(9999));
  EXPECT_EQ(restore({"--to", to(), "--clash", "replace-older"}).exit, 0);
  EXPECT_EQ(read_file(to("/rota.ods")), "from the backup") << "mine was older";
  EXPECT_EQ(restore({"--to", to(), "--clash", "ask"}).exit, 2) << "nobody is there to be asked";
}

TEST_F(RestoreModes, AFileInTheWayOfAFolderAndAFolderInTheWayOfAFile) {
  put_file(file("Letters/one"), "1");
  put_file(file("plain"), "2");
  run(0);
  auto prepare = [&] {
    fs::remove_all(to());
    put_file(to("/Letters"), "a file");
    put_file(to("/plain/inside"), "a folder");
  };
  prepare();
  EXPECT_EQ(restore({"--to", to(), "--clash", "skip"}).exit, 1);
  EXPECT_EQ(read_file(to("/Letters")), "a file");
  EXPECT_EQ(names_in(to()), (std::set<std::string>{"Letters", "plain"}));
  prepare();
  EXPECT_EQ(restore({"--to", to(), "--clash", "both"}).exit, 0);
  EXPECT_EQ(read_file(to("/Letters.of-2026-03-01-2100/one")), "1");
  EXPECT_EQ(read_file(to("/plain.of-2026-03-01-2100")), "2");
  EXPECT_EQ(read_file(to("/Letters")), "a file");
  prepare();
  Ran ran = restore({"--to", to(), "--clash", "replace"});
  EXPECT_EQ(ran.exit, 1) << "a folder with files in it is never replaced";
  EXPECT_EQ(read_file(to("/Letters/one")), "1");
  EXPECT_EQ(read_file(to("/plain/inside")), "a folder");
  fs::remove(to("/plain/inside"));
  EXPECT_EQ(restore({"--to", to(), "--clash", "replace"}).exit, 0);
  EXPECT_EQ(read_file(to("/plain")), "2") << "an empty one is";
}

TEST_F(RestoreModes, LinksClashLikeFiles) {
  fs::create_symlink("target", file("link"));
  put_file(file("target"), "t");
  fs::create_hard_link(file("target"), file("twin"));
  run(0);
  put_file(to("/link"), "mine");
  put_file(to("/twin"), "mine too");
  EXPECT_EQ(restore({"--to", to(), "--clash", "replace"}).exit, 0);
  EXPECT_EQ(fs::read_symlink(to("/link")), "target");
  EXPECT_EQ(fs::hard_link_count(to("/target")), 2u);
  Ran again = restore({"--to", to(), "--clash", "replace"});
  EXPECT_NE(again.out.find("restored 0 files"), std::string::npos) << again.out;
  EXPECT_EQ(names_in(to()), (std::set<std::string>{"link", "target", "twin"}))
      << "nothing is left over";
}

TEST_F(RestoreModes, InPlacePutsFilesBackWhereTheyWere) {
  put_file(file("a/one"), "1");
  put_file(file("a/two"), "2");
  ::chmod(file("a").c_str(), 0750);
  run(0);
  Tree before = tree_of(desk.source());
  fs::remove_all(file("a"));
  EXPECT_EQ(restore({"--in-place"}).exit, 2) << "the whole source needs --everything";
  EXPECT_EQ(restore({"--in-place", "--to", to(), "a"}).exit, 2);
  EXPECT_EQ(restore({"--in-place", file("a")}).exit, 0);
  EXPECT_EQ(difference(before, tree_of(desk.source())), "");
  fs::remove_all(desk.source());
  EXPECT_EQ(restore({"--in-place", "--everything"}).exit, 0);
  EXPECT_EQ(difference(before, tree_of(desk.source())), "");
}

TEST_F(RestoreModes, AFileThatTheJobNamesItselfGoesBackToItsPlace) {
  std::string single = desk.folder / "elsewhere/settings.conf";
  put_file(single, "all of it");
  std::string job = desk.folder / "home/jobs/desk.toml", text = read_file(job);
  std::size_t at = text.find("folders = [") + 11;
  put_file(job, text.insert(at, "\"" + single + "\", "));
  put_file(file("one"), "1");
  run(0);
  put_file(single, "changed");
  EXPECT_EQ(restore({single, "--in-place", "--clash", "replace"}).exit, 0);
  EXPECT_EQ(read_file(single), "all of it");
  fs::remove_all(desk.folder / "elsewhere");
  EXPECT_EQ(restore({single, "--in-place"}).exit, 0);
  EXPECT_EQ(read_file(single), "all of it");
  EXPECT_EQ(restore({single, "--in-place", "--map", single + "=" + to("/moved.conf")}).exit, 0);
  EXPECT_EQ(read_file(to("/moved.conf")), "all of it");
}

TEST_F(RestoreModes, OneFileGoesToStandardOutput) {
  put_file(file("rota"), noise(3'000'000, 1));
  put_file(file("sparse"), "x");
  fs::resize_file(file("sparse"), 5'000'000);
  run(0);
  EXPECT_EQ(restore({"rota", "--to", "-"}).out, noise(3'000'000, 1));
  EXPECT_EQ(restore({"sparse", "--to", "-"}).out.size(), 5'000'000u);
  EXPECT_EQ(restore({"*", "--to", "-"}).exit, 2);
}

TEST_F(RestoreModes, NamesComeFromAFile) {
  put_file(file("one"), "1");
  put_file(file("new\nline"), "2");
  put_file(file("three"), "3");
  run(0);
  put_file(desk.folder / "names", file("one") + "\n" + file("three") + "\n");
  EXPECT_EQ(restore({"--names-in", desk.folder / "names", "--to", to("1")}).exit, 0);
  EXPECT_EQ(names_in(to("1")), (std::set<std::string>{"one", "three"}));
  put_file(desk.folder / "names", file("new\nline") + '\0' + file("one") + '\0');
  EXPECT_EQ(restore({"--names-in", desk.folder / "names", "--to", to("2")}).exit, 0);
  EXPECT_EQ(names_in(to("2")), (std::set<std::string>{"new\nline", "one"}));
}

TEST_F(RestoreModes, MissingFilesComeBackEachFromTheNewestSetThatHasIt) {
  for (int i = 0; i < 6; ++i)
    put_file(file("Letters/" + std::to_string(i)), "first " + std::to_string(i));
  put_file(file("Letters/renamed"), noise(4000, 3));
  run(0);
  put_file(file("Letters/2"), "second 2");
  run(1);
  fs::remove(file("Letters/2"));
  fs::remove(file("Letters/3"));
  run(2);
  fs::remove(file("Letters/4"));
  put_file(file("Letters/5"), "newer than any set");
  fs::rename(file("Letters/renamed"), file("Letters/has another name"));
  Json made = desk.json({"restore", "desk", file("Letters"), "--missing", "--in-place"});
  ASSERT_EQ(made["restored"].size(), 3u) << made.dump(1);
  EXPECT_EQ(read_file(file("Letters/2")), "second 2");
  EXPECT_EQ(read_file(file("Letters/3")), "first 3");
  EXPECT_EQ(read_file(file("Letters/4")), "first 4");
  EXPECT_EQ(read_file(file("Letters/5")), "newer than any set") << "never overwritten";
  EXPECT_FALSE(fs::exists(file("Letters/renamed"))) << "it merely moved";
  std::map<std::string, std::string> from;
  for (const Json& item : made["restored"]) {
    std::string path = item["path"];
    from[path.substr(path.rfind('/') + 1)] = item["set"];
  }
  EXPECT_EQ(from["2"], "c1-1");
  EXPECT_EQ(from["3"], "c1-1");
  EXPECT_EQ(from["4"], "c1-2");
  EXPECT_EQ(desk.json({"restore", "desk", "--missing", "--in-place"})["restored"].size(), 0u);
}

TEST_F(RestoreModes, AMirroredFolderIsExactlyWhatItWasAndNothingIsDeleted) {
  put_file(file("Desk/keep"), "k");
  put_file(file("Desk/sub/changed"), "before");
  put_file(file("outside"), "o");
  run(0);
  Tree before = tree_of(file("Desk"));
  put_file(file("Desk/sub/changed"), "overwritten");
  put_file(file("Desk/later/deep/new"), "new");
  fs::remove(file("Desk/keep"));
  EXPECT_EQ(restore({file("Desk"), "--in-place", "--mirror", "--rehearse"}).exit, 0);
  EXPECT_TRUE(fs::exists(file("Desk/later"))) << "only rehearsed";
  Ran ran = restore({file("Desk"), "--in-place", "--mirror"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(difference(before, tree_of(file("Desk"))), "");
  std::string aside;
  for (const auto& name : names_in(desk.source())) {
    if (name.starts_with("Desk.set-aside-")) aside = file(name);
  }
  ASSERT_FALSE(aside.empty()) << ran.out;
  EXPECT_EQ(read_file(aside + "/sub/changed"), "overwritten");
  EXPECT_EQ(read_file(aside + "/later/deep/new"), "new");
  on_day(1);
  Json made = desk.json({"run", "desk"})["runs"][0];
  EXPECT_EQ(made["files"]["seen"], 3) << "what was set aside is left out";
}

TEST_F(RestoreModes, AMirrorJoinsNamesOfOneFileThatAnEditorParted) {
  put_file(file("Desk/one"), "content");
  fs::create_hard_link(file("Desk/one"), file("Desk/two"));
  run(0);
  Tree before = tree_of(file("Desk"));
  fs::copy_file(file("Desk/two"), file("Desk/copy"));
  fs::rename(file("Desk/copy"), file("Desk/two"));
  ASSERT_NE(difference(before, tree_of(file("Desk"))), "") << "parted, with the same content";
  EXPECT_EQ(restore({file("Desk"), "--in-place", "--mirror"}).exit, 0);
  EXPECT_EQ(difference(before, tree_of(file("Desk"))), "");
  EXPECT_EQ(fs::hard_link_count(file("Desk/one")), 2u);
}

TEST_F(RestoreModes, AnotherPcAndAnotherUserAreMapped) {
  put_file(file("Documents/rota"), "r");
  run(0);
  std::string there = desk.folder / "newhome";
  EXPECT_EQ(
      restore({"--in-place", "--everything", "--map", desk.source() + "=" + there, "--owner", "me"})
          .exit,
      0);
  EXPECT_EQ(read_file(there + "/Documents/rota"), "r");
  EXPECT_EQ(restore({"--to", to(), "--layout", "full", "--map", desk.source() + "=/srv/desk"}).exit,
            0);
  EXPECT_EQ(read_file(to("/srv/desk/Documents/rota")), "r");
  EXPECT_EQ(restore({"--to", to(), "--map", "nonsense"}).exit, 2);
}

TEST_F(RestoreModes, ARehearsalWritesNothingAndSaysWhatItNeeds) {
  put_file(file("big"), noise(400'000, 1));
  run(0);
  Json rehearsed = desk.json({"restore", "desk", "--to", to(), "--rehearse"});
  EXPECT_FALSE(fs::exists(to()));
  EXPECT_EQ(rehearsed["bytes"], 400'000);
  EXPECT_GT(rehearsed["free"].get<std::uint64_t>(), 0u);
  EXPECT_EQ(rehearsed["restored"].size(), 1u) << rehearsed.dump(1);
}

TEST_F(RestoreModes, AReceiptNamesWhatWasDone) {
  put_file(file("one"), "1");
  run(0);
  std::string receipt = desk.folder / "receipt.txt";
  EXPECT_EQ(restore({"--to", to(), "--receipt", receipt}).exit, 0);
  std::string text = read_file(receipt);
  EXPECT_NE(text.find("from desk of 2026-03-01"), std::string::npos) << text;
  EXPECT_NE(text.find("restored " + to("/one")), std::string::npos) << text;
  EXPECT_EQ(restore({"--to", to("2"), "--receipt", receipt}).exit, 2) << "it exists";
}

TEST_F(RestoreModes, ARestoreThatWasStoppedGoesOnWhereItWas) {
  for (int i = 0; i < 300; ++i)
    put_file(file("f" + std::to_string(i)), noise(20'000, static_cast<unsigned>(i)));
  run(0);
  ASSERT_EQ(restore({"--to", to()}).exit, 0);
  for (int i = 100; i < 300; ++i) fs::remove(to("/f" + std::to_string(i)));
  put_file(to("/f5"), "half writ");
  Ran ran = restore({"--to", to()});
  EXPECT_EQ(ran.exit, 1) << "f5 is not ours to overwrite unasked";
  EXPECT_NE(ran.out.find("restored 200 files"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("99 already there, the same"), std::string::npos) << ran.out;
  EXPECT_EQ(restore({"--to", to(), "--clash", "replace"}).exit, 0);
  EXPECT_EQ(difference(tree_of(desk.source()), tree_of(to())), "");
}

TEST_F(RestoreModes, QuestionsAreAskedOnATerminal) {
  put_file(file("a"), "backup a");
  put_file(file("b"), "backup b");
  put_file(file("c"), "backup c");
  run(0);
  for (const char* name : {"a", "b", "c"}) put_file(to(std::string("/") + name), "mine");
  Ran ran = run_dialogue(shell_quoted(KESTRUM_PROGRAM) + " restore desk --to " + to(),
                         {{"What now?", "1"}, {"What now?", "5"}}, desk.environment);
  EXPECT_EQ(ran.exit, 1) << ran.out;
  EXPECT_EQ(read_file(to("/a")), "mine");
  EXPECT_EQ(read_file(to("/b")), "backup b") << "replace all";
  EXPECT_EQ(read_file(to("/c")), "backup c");
  EXPECT_NE((ran.out + ran.err).find("newer"), std::string::npos) << ran.out << ran.err;
}

TEST_F(RestoreModes, WhoStopsAtAQuestionIsToldWhatWasDoneBefore) {
  put_file(file("a"), "backup a");
  put_file(file("b"), "backup b");
  put_file(file("c"), "backup c");
  run(0);
  for (const char* name : {"b", "c"}) put_file(to(std::string("/") + name), "mine");
  std::string script = shell_quoted(KESTRUM_PROGRAM) + " restore desk --to " + to();
  Ran ran = run_dialogue(script, {{"What now?", "2"}, {"What now?", "\x03"}}, desk.environment);
  EXPECT_EQ(ran.exit, 130) << ran.out;
  EXPECT_EQ(ran.out.find("nothing was changed"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("2 files were restored before that"), std::string::npos) << ran.out;
  EXPECT_EQ(read_file(to("/a")), "backup a");
  EXPECT_EQ(read_file(to("/b")), "backup b");
  EXPECT_EQ(read_file(to("/c")), "mine");
}

TEST_F(RestoreModes, ATargetThatIsNoFolderOrCannotBeMadeIsRefusedBeforeAnything) {
  put_file(file("a"), "backup a");
  run(0);
  put_file(desk.folder / "plain", "a file");
  for (const char* more : {"", "/below", "/far/below"}) {
    for (bool rehearse : {false, true}) {
      std::vector<std::string> words = {"--to", std::string(desk.folder / "plain") + more};
      if (rehearse) words.push_back("--rehearse");
      Ran ran = restore(words);
      EXPECT_EQ(ran.exit, 2) << ran.out << ran.err;
      EXPECT_NE(ran.err.find("plain is no folder"), std::string::npos) << ran.err;
    }
  }
  EXPECT_EQ(read_file(desk.folder / "plain"), "a file");
  EXPECT_EQ(restore({"--to", "/proc/nothing/here"}).exit, 3);
  fs::create_symlink("/nowhere", desk.folder / "dangling");
  EXPECT_EQ(restore({"--to", desk.folder / "dangling"}).exit, 2);
  EXPECT_EQ(restore({"--to", desk.folder / "dangling", "--rehearse"}).exit, 2);
  EXPECT_LE(restore({"--in-place", "--everything", "--map",
                     desk.source() + "=" + std::string(desk.folder / "plain")})
                .exit,
            3)
      << "each file is named as failed";
}

TEST_F(RestoreModes, ATarHoldsAllThatARestoreGives) {
  put_file(file("Desk/one"), "1");
  put_file(file("Desk/big"), noise(9'000'000, 4));
  put_file(file("Desk/empty"), "");
  fs::create_symlink("one", file("Desk/link"));
  fs::create_hard_link(file("Desk/one"), file("Desk/twin"));
  ::chmod(file("Desk/one").c_str(), 0640);
  run(0);
  std::string tar = desk.folder / "desk.tar";
  Ran ran = restore({file("Desk"), "--as-tar", tar});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_NE(ran.out.find("not encrypted"), std::string::npos) << ran.out;
  EXPECT_EQ(restore({file("Desk"), "--as-tar", tar}).exit, 2) << "it exists";
  fs::create_directories(to());
  ASSERT_EQ(run_program({"tar", "-xpf", tar, "-C", to()}).exit, 0);
  // The folder that all share is dropped; its own time is the target's.
  for (const char* name : {"one", "big", "empty", "twin"}) {
    EXPECT_EQ(read_file(to(std::string("/") + name)), read_file(file(std::string("Desk/") + name)));
  }
  EXPECT_EQ(fs::read_symlink(to("/link")), "one");
  EXPECT_EQ(fs::hard_link_count(to("/one")), 2u);
  EXPECT_EQ(fs::last_write_time(to("/one")), fs::last_write_time(file("Desk/one")));
  EXPECT_EQ(fs::status(to("/one")).permissions(), fs::perms(0640));
  EXPECT_EQ(names_in(desk.folder.path()).count("desk.tar.unfinished"), 0u);
}

TEST_F(RestoreModes, AZipHoldsFilesWithTheirNamesAndTimes) {
  put_file(file("Desk/Übersicht.txt"), "names in many scripts");
  put_file(file("Desk/sub/two"), noise(50'000, 2));
  put_file(file("Desk/empty"), "");
  run(0);
  std::string zip = desk.folder / "desk.zip";
  ASSERT_EQ(restore({file("Desk"), "--as-zip", zip}).exit, 0);
  EXPECT_EQ(restore({file("Desk"), "--as-zip", zip}).exit, 2);
  if (!have_program("unzip")) GTEST_SKIP() << "no unzip here";
  fs::create_directories(to());
  Environment utf8 = {{"LC_ALL", "C.UTF-8"}};
  ASSERT_EQ(run_program({"unzip", "-q", zip, "-d", to()}, utf8).exit, 0);
  EXPECT_EQ(read_file(to("/Übersicht.txt")), "names in many scripts");
  EXPECT_EQ(read_file(to("/sub/two")), noise(50'000, 2));
  EXPECT_EQ(read_file(to("/empty")), "");
  struct stat was {
  }, is{};
  ::stat(file("Desk/sub/two").c_str(), &was);
  ::stat(to("/sub/two").c_str(), &is);
  EXPECT_EQ(was.st_mtim.tv_sec, is.st_mtim.tv_sec);
  EXPECT_EQ(was.st_mode, is.st_mode);
  for (const auto& name : names_in(desk.folder.path())) {
    EXPECT_EQ(name.find("desk.zip."), std::string::npos) << "left over: " << name;
  }
}

TEST_F(RestoreModes, ABundleIsProtectedByAPassphraseOfItsOwn) {
  put_file(file("one"), "secret");
  run(0);
  put_file(desk.folder / "phrase", "for this file alone\n", 0600);
  for (const char* as : {"--as-tar", "--as-zip"}) {
    std::string out = desk.folder / (std::string("out") + as + ".age");
    Ran ran = restore({as, out, "--protect", "--next-passphrase-from", desk.folder / "phrase"});
    EXPECT_EQ(ran.exit, 0) << ran.err;
    EXPECT_TRUE(read_file(out).starts_with("age-encryption.org/v1")) << as;
    EXPECT_EQ(ran.out.find("not encrypted"), std::string::npos);
  }
  EXPECT_EQ(restore({"--to", to(), "--protect"}).exit, 2);
  EXPECT_EQ(restore({"--to", to(), "--as-zip", to("x")}).exit, 2);
}

TEST_F(RestoreModes, AnOrdinaryUserGetsTheirOwnFilesBack) {
  bool root = ::geteuid() == 0;
  if (root && !have_program("setpriv")) GTEST_SKIP() << "no setpriv here";
  std::string work = desk.folder / "user";
  if (root) {
    // The program where anybody may run it, and a place of the user's own.
    fs::create_directories(work);
    fs::copy_file(KESTRUM_PROGRAM, desk.folder / "kestrum");
    ::chmod(desk.folder.path().c_str(), 0755);
    desk.program = {"setpriv",
                    "--reuid",
                    "65534",
                    "--regid",
                    "65534",
                    "--clear-groups",
                    desk.folder / "kestrum"};
  }
  put_file(work + "/source/Letters/one", "1");
  put_file(work + "/source/Letters/two", "2", 0600);
  fs::create_symlink("one", work + "/source/Letters/link");
  put_file(work + "/source/Old/three", "3", 0444);
  ::chmod((work + "/source/Old").c_str(), 0555);
  fs::create_directories(work + "/disk");
  auto give_to_user = [&](const std::string& path) {
    if (root) {
      ASSERT_EQ(run_program({"chown", "-R", "65534:65534", path}).exit, 0);
    }
  };
  give_to_user(work);
  desk.environment["KESTRUM_HOME"] = work + "/home";
  ASSERT_EQ(desk.kestrum({"job", "new", "mine", "--from", work + "/source", "--to", work + "/disk",
                          "--same-disk", "--protection", "none"})
                .exit,
            0);
  ASSERT_EQ(desk.kestrum({"run", "mine"}).exit, 0);
  Tree before = tree_of(work + "/source");
  ASSERT_EQ(desk.kestrum({"restore", "mine", "--to", work + "/back"}).exit, 0);
  EXPECT_EQ(difference(before, tree_of(work + "/back")), "") << "read-only folders too";
  fs::remove(work + "/source/Letters/two");
  ASSERT_EQ(desk.kestrum({"restore", "mine", "--missing", "--in-place"}).exit, 0);
  EXPECT_EQ(read_file(work + "/source/Letters/two"), "2");
  put_file(work + "/source/Letters/one", "changed");
  give_to_user(work + "/source");
  ASSERT_EQ(
      desk.kestrum({"restore", "mine", work + "/source/Letters", "--in-place", "--mirror"}).exit,
      0);
  fs::remove_all(work + "/source/Letters.set-aside-2026-03-01-2100");
  Tree after = tree_of(work + "/source");
  // Only what lies beside the folder has moved its time.
  for (Tree* tree : {&before, &after}) tree->erase(""), tree->erase("/");
  EXPECT_EQ(difference(before, after), "");
  ASSERT_EQ(
      desk.kestrum({"shelf", "claim", work + "/disk/test-pc/mine", "--look-only", "--unprotected"})
          .exit,
      0);
}

}  // namespace
}  // namespace kestrum::test
