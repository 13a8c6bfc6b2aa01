// A user of the PC, or whoever had the disk in their hands, tries to reach what is root's through a
// run or a restore of root's. Nothing outside may be read, changed, or made: a tree of decoys is
// compared before and after.
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

constexpr uid_t kUser = 65534;

class Intruder : public testing::Test {
 protected:
  void SetUp() override {
    if (::geteuid() != 0) GTEST_SKIP() << "needs root, to be attacked by a user";
    ::chmod(desk.folder.path().c_str(), 0755);
    fs::create_directories(docs() + "/letters");
    put_file(docs() + "/letters/one.txt", "a letter");
    put_file(docs() + "/two.txt", "two");
    fs::create_directories(decoys() + "/letters");
    put_file(decoys() + "/shadow", "root's alone", 0600);
    put_file(decoys() + "/letters/one.txt", "not yours", 0600);
    put_file(decoys() + "/two.txt", "not yours either", 0600);
    ::chmod(decoys().c_str(), 0700);
    run_program({"chown", "-R", "65534:65534", user()});
    before_ = tree_of(decoys());
    std::vector<std::string> words = {"job",  "new",  "desk",      "--from",
                                      docs(), "--to", desk.disk(), "--same-disk"};
    if (!with_passphrase()) words.insert(words.end(), {"--protection", "none"});
    Ran made = desk.kestrum(words);
    ASSERT_EQ(made.exit, 0) << made.err;
    ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  }
  void TearDown() override {
    if (::geteuid() != 0) return;
    EXPECT_EQ(difference(before_, tree_of(decoys())), "");
  }

  virtual bool with_passphrase() const { return false; }  // which takes its time
  std::string user() const { return desk.folder / "user"; }
  std::string docs() const { return user() + "/docs"; }
  std::string decoys() const { return desk.folder / "roots"; }
  // As the user: the folder goes, and a link stands in its place.
  void swap_for_link(const std::string& folder, const std::string& target) {
    fs::rename(folder, folder + ".mine");
    fs::create_symlink(target, folder);
    ASSERT_EQ(::lchown(folder.c_str(), kUser, kUser), 0);
  }
  std::string look() {
    Ran ran = desk.kestrum({"look", "desk", "--depth", "20"});
    return ran.out + ran.err;
  }

  Desk desk;
  Tree before_;
};

class IntruderWithKeys : public Intruder {
  bool with_passphrase() const override { return true; }
};

TEST_F(Intruder, AJobsFolderThatTurnsIntoALinkIsNotReadAndNothingIsGone) {
  swap_for_link(docs(), decoys());
  Json ran = desk.json({"run", "desk"}, 1)["runs"][0];
  EXPECT_NE(ran.dump().find("a link to what its owner does not own"), std::string::npos)
      << ran.dump(1);
  EXPECT_EQ(look().find("shadow"), std::string::npos) << look();
  Ran back = desk.kestrum({"restore", "desk", "two.txt", "--to", desk.folder / "out"});
  EXPECT_EQ(back.exit, 0) << back.err;
  EXPECT_EQ(read_file(desk.folder / "out/two.txt"), "two") << "what was there is there still";
}

TEST_F(Intruder, AFolderAboveThatTurnsIntoALinkIsNotReadEither) {
  fs::create_directories(desk.folder / "roots2/docs");
  put_file(desk.folder / "roots2/docs/shadow", "root's alone", 0600);
  swap_for_link(user(), desk.folder / "roots2");
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 1);
  EXPECT_EQ(look().find("shadow"), std::string::npos) << look();
}

// Links that are nobody's trick are followed as before.
TEST_F(Intruder, LinksOfTheFoldersOwnerAreStillFollowed) {
  fs::rename(docs(), user() + "/moved");
  fs::create_symlink("moved", docs());
  ASSERT_EQ(::lchown(docs().c_str(), kUser, kUser), 0);
  put_file(user() + "/moved/three.txt", "three");
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  EXPECT_NE(look().find("three.txt"), std::string::npos);
}

TEST_F(Intruder, ARestoreInPlaceDoesNotFollowTheLink) {
  swap_for_link(docs(), decoys());
  Ran ran = desk.kestrum({"restore", "desk", "--in-place", "--everything", "--clash", "replace"});
  EXPECT_NE(ran.exit, 0) << ran.out;
  fs::remove(docs());
  fs::create_directories(docs());
  fs::create_symlink(decoys() + "/letters", docs() + "/letters");
  ran = desk.kestrum({"restore", "desk", "--in-place", "--everything", "--clash", "replace"});
  EXPECT_EQ(read_file(docs() + "/two.txt"), "two") << ran.err;
}

TEST_F(Intruder, AMirrorMovesNothingOfRoots) {
  swap_for_link(docs(), decoys());
  Ran ran = desk.kestrum({"restore", "desk", docs(), "--in-place", "--mirror", "--yes"});
  EXPECT_NE(ran.exit, 0) << ran.out;
  fs::remove(docs());
  fs::rename(docs() + ".mine", docs());
  put_file(docs() + "/later.txt", "came later");
  fs::remove_all(docs() + "/letters");
  fs::create_symlink(decoys(), docs() + "/letters");
  ran = desk.kestrum({"restore", "desk", docs(), "--in-place", "--mirror", "--yes"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(read_file(docs() + "/letters/one.txt"), "a letter");
  EXPECT_FALSE(path_exists(docs() + "/later.txt"));
}

TEST_F(Intruder, ATargetThatIsALinkOfAUserIsNotWrittenTo) {
  fs::create_symlink(decoys(), user() + "/out");
  ASSERT_EQ(::lchown((user() + "/out").c_str(), kUser, kUser), 0);
  for (const std::string& to : {user() + "/out", user() + "/out/new"}) {
    Ran ran = desk.kestrum({"restore", "desk", "two.txt", "--to", to, "--clash", "replace"});
    EXPECT_NE(ran.exit, 0) << to;
    EXPECT_NE(ran.err.find("a link to what its owner does not own"), std::string::npos) << ran.err;
  }
  Ran zip = desk.kestrum({"restore", "desk", "two.txt", "--as-zip", user() + "/out/all.zip"});
  EXPECT_NE(zip.exit, 0);
  Ran receipt = desk.kestrum({"restore", "desk", "two.txt", "--to", desk.folder / "fine",
                              "--receipt", user() + "/out/receipt"});
  EXPECT_NE(receipt.exit, 0);
}

TEST_F(Intruder, AFileThatIsNamedForACalendarIsNotWrittenThroughALinkOfAUser) {
  fs::create_symlink(decoys(), user() + "/out");
  ASSERT_EQ(::lchown((user() + "/out").c_str(), kUser, kUser), 0);
  fs::create_symlink(decoys() + "/days.ics", user() + "/days.ics");
  ASSERT_EQ(::lchown((user() + "/days.ics").c_str(), kUser, kUser), 0);
  for (const std::string& file : {user() + "/out/days.ics", user() + "/days.ics"}) {
    EXPECT_EQ(desk.kestrum({"agenda", "--ics", file}).exit, 2) << file;
  }
  EXPECT_EQ(desk.kestrum({"sets", "desk", "--calendar", user() + "/out/sets.svg"}).exit, 2);
  EXPECT_NE(desk.kestrum({"passphrase", "desk", "--card", user() + "/out/page.svg"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"agenda", "--ics", user() + "/mine.ics"}).exit, 0);
  EXPECT_TRUE(fs::is_regular_file(user() + "/mine.ics"));
}

// ---- A disk that somebody else had

TEST_F(Intruder, ADeviceOrAPipeInTheWayOfAFileIsNotWrittenTo) {
  std::string waiting = desk.shelf() + "/last-run.json.new";
  for (mode_t type : {S_IFIFO, S_IFCHR}) {
    ASSERT_EQ(::mknod(waiting.c_str(), type | 0600, gnu_dev_makedev(1, 7)), 0);  // always full
    put_file(docs() + "/two.txt", "two, type " + std::to_string(type));
    run_program({"chown", "65534", docs() + "/two.txt"});
    Ran ran = run_program({"timeout", "60", KESTRUM_PROGRAM, "run", "desk"}, desk.environment);
    EXPECT_EQ(ran.exit, 0) << ran.err;
    EXPECT_FALSE(path_exists(waiting));
    EXPECT_TRUE(fs::is_regular_file(desk.shelf() + "/last-run.json"));
  }
}

TEST_F(IntruderWithKeys, FoldersOfAShelfThatAreLinksAreRefused) {
  for (const char* name : {"sets", "keys", "heads"}) {
    std::string folder = desk.shelf() + "/" + name;
    fs::rename(folder, folder + ".mine");
    fs::create_symlink(decoys(), folder);
    if (std::string(name) == "keys") {
      desk.environment["KESTRUM_NEXT_PASSPHRASE"] = "sand and salt";
      EXPECT_NE(desk.kestrum({"passphrase", "desk"}).exit, 0);
      desk.environment["KESTRUM_NEXT_PASSPHRASE"] = "";
    }
    Ran ran = desk.kestrum({"run", "desk"});
    if (std::string(name) != "keys") {
      EXPECT_NE(ran.exit, 0) << name << ran.out;
    }
    desk.kestrum({"prune", "desk"});
    desk.kestrum({"verify", "desk", "--contents"});
    fs::remove(folder);
    fs::rename(folder + ".mine", folder);
  }
  EXPECT_LE(desk.kestrum({"run", "desk"}).exit, 1);
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
}

TEST_F(Intruder, AHostsFolderThatIsALinkIsRefused) {
  std::string host = desk.disk() + "/test-pc";
  fs::rename(host, decoys() + ".shelves");
  fs::create_symlink(decoys() + ".shelves", host);
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 5) << ran.err;
  EXPECT_NE(ran.err.find("a link is in the way"), std::string::npos) << ran.err;
  EXPECT_EQ(list_folder(decoys() + ".shelves/desk/sets").size(), 1u);
}

TEST_F(Intruder, WhatIsTidiedUpOnTheDiskIsTidiedUpThere) {
  std::string leftover = desk.shelf() + "/sets/c0009-000_2026-03-02_2100Z.removing";
  fs::create_directories(leftover);
  fs::create_symlink(decoys(), leftover + "/parts");
  fs::create_symlink(decoys(), desk.shelf() + "/sets/c0008-000_2026-03-02_2100Z.removing");
  fs::create_hard_link(decoys() + "/shadow", leftover + "/hard");
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_LE(ran.exit, 1) << ran.err;
  EXPECT_FALSE(path_exists(leftover)) << ran.err;
}

// A file of the shelf that is another name of one elsewhere on that disk is replaced, not written
// through.
TEST_F(Intruder, AHardLinkOnTheShelfIsNotWrittenThrough) {
  std::string waiting = desk.shelf() + "/last-run.json.new";
  fs::create_hard_link(decoys() + "/shadow", waiting);
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
}

// ---- What root goes by

TEST_F(IntruderWithKeys, AHomeJobOrPassphraseFileThatOthersCanWriteIsRefused) {
  std::string home = desk.folder / "home", job = home + "/jobs/desk.toml";
  std::string phrase = desk.folder / "phrase";
  put_file(phrase, "salt and sand\n", 0600);
  auto ends = [&](int exit, const std::string& path, const std::vector<std::string>& more = {}) {
    std::vector<std::string> words = {"look", "desk"};
    words.insert(words.end(), more.begin(), more.end());
    Ran ran = desk.kestrum(words);
    EXPECT_EQ(ran.exit, exit) << ran.out << ran.err;
    EXPECT_NE(ran.err.find(path), exit == 0 && path.empty() ? 1 : std::string::npos) << ran.err;
  };
  ends(0, "");
  for (const std::string& path : {home, home + "/jobs", home + "/state", job}) {
    ASSERT_EQ(::chown(path.c_str(), kUser, kUser), 0);
    ends(2, path);
    ASSERT_EQ(::chown(path.c_str(), 0, 0), 0);
    struct stat st {};
    ASSERT_EQ(::stat(path.c_str(), &st), 0);
    ::chmod(path.c_str(), 0777);
    ends(2, path);
    ::chmod(path.c_str(), st.st_mode & 0777);
  }
  ends(0, "");
  ASSERT_EQ(::chown(phrase.c_str(), kUser, kUser), 0);
  Ran ran = desk.kestrum(
      {"restore", "desk", "two.txt", "--to", desk.folder / "out", "--passphrase-from", phrase});
  EXPECT_EQ(ran.exit, 7);
  EXPECT_NE(ran.err.find("it is not root's"), std::string::npos) << ran.err;
}

}  // namespace
}  // namespace kestrum::test
