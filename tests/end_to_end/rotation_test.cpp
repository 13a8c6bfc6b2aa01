// A job with several disks: each has a shelf with chains of its own.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/small_disk.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Rotation : public testing::Test {
 protected:
  void SetUp() override {
    put_file(desk.source() + "/rota.csv", "week 1\n");
    for (const char* name : {"blue", "red"}) fs::create_directory(desk.folder / name);
    ASSERT_EQ(
        desk.kestrum({"job", "new", "desk", "--from", desk.source(), "--to", desk.folder / "blue",
                      "--to", desk.folder / "red", "--same-disk", "--protection", "none"})
            .exit,
        0);
  }
  Json run(const std::vector<std::string>& more = {}) {
    std::vector<std::string> words = {"run", "desk"};
    words.insert(words.end(), more.begin(), more.end());
    return desk.json(words)["runs"][0];
  }
  std::size_t sets_on(const std::string& disk) {
    return list_folder(desk.folder / (disk + "/test-pc/desk/sets")).size();
  }
  void unplug(const std::string& disk) {
    fs::rename(desk.folder / disk, desk.folder / (disk + ".away"));
  }
  void plug_in(const std::string& disk) {
    fs::rename(desk.folder / (disk + ".away"), desk.folder / disk);
  }
  Desk desk;
};

TEST_F(Rotation, TheDiskThatIsThereIsUsedAndOfTwoTheOlder) {
  unplug("red");
  EXPECT_EQ(run()["set"], "c1-0");
  EXPECT_EQ(sets_on("blue"), 1U);
  plug_in("red");
  unplug("blue");
  EXPECT_EQ(run()["set"], "c1-0") << "a chain of its own";
  plug_in("blue");
  // Both are there now. Their newest sets may be of the same second; --on decides.
  EXPECT_EQ(run({"--on", desk.folder / "red"})["set"], "c1-1");
  EXPECT_EQ(sets_on("red"), 2U);
  EXPECT_EQ(sets_on("blue"), 1U);
}

TEST_F(Rotation, ADiskIsChosenByItsNameAndDueWhenItIsExpected) {
  EXPECT_EQ(run({"--on", "red"})["set"], "c1-0");
  EXPECT_EQ(sets_on("red"), 1U);
  EXPECT_EQ(desk.kestrum({"run", "desk", "--on", "green"}).exit, 2);
  Json shelves = desk.json({"shelf", "list", "desk"})["shelves"];
  EXPECT_EQ(shelves[0]["next"], true) << "nothing is on it yet";
  EXPECT_EQ(shelves[1]["next"], false);
  EXPECT_GT(shelves[1]["bytes"], 0);
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "rotation.expect", "every 2 days"}).exit, 0);
  Json disks = desk.json({"agenda", "desk"})["disks"];
  ASSERT_EQ(disks.size(), 2U);
  EXPECT_TRUE(desk.json({"agenda", "desk", "--days", "1"})["disks"].empty());
  unplug("red");
  Json away = desk.json({"shelf", "list", "desk"})["shelves"][1];
  EXPECT_TRUE(away["last_seen"].is_string()) << away.dump(1);
  EXPECT_NE(desk.kestrum({"shelf", "list", "desk"}).out.find("due by"), std::string::npos);
}

// The folder was taken when the disk was plugged in, so it was mounted somewhere else.
TEST(MountedElsewhere, ADiskIsFoundByItsLabel) {
  Desk desk;
  put_file(desk.source() + "/rota.csv", "week 1\n");
  std::string here = desk.folder / "media/blue-disk", there = desk.folder / "media2/blue-disk";
  fs::create_directories(here);
  SmallDisk disk(desk.folder, here, 32, DiskKind::kExt4);
  if (!disk.mounted()) GTEST_SKIP() << disk.why_not();
  fs::create_directory(here + "/backups");
  ASSERT_EQ(desk.kestrum({"job", "new", "desk", "--from", desk.source(), "--to", here + "/backups",
                          "--protection", "none"})
                .exit,
            0);
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  auto move = [&](const std::string& from, const std::string& to) {
    fs::rename(desk.folder / from, desk.folder / to);
  };
  move("media", "media2");
  fs::create_directories(here);  // an empty folder is left
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_NE(ran.err.find("found at " + there + "/backups/test-pc/desk instead of " + here),
            std::string::npos)
      << ran.err;
  EXPECT_TRUE(fs::is_empty(here));
  EXPECT_EQ(list_folder(there + "/backups/test-pc/desk/sets").size(), 2U);
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "out"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"run", "--due"}).exit, 0);
  // A disk without the shelf is none of ours.
  fs::rename(there + "/backups/test-pc/desk", there + "/backups/test-pc/aside");
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 5);
  fs::rename(there + "/backups/test-pc/aside", there + "/backups/test-pc/desk");
  fs::remove_all(desk.folder / "media");
  move("media2", "media");
  ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(ran.err.find("instead of"), std::string::npos) << ran.err;
}

TEST_F(Rotation, ADiskThatMovedToAnotherPathIsStillThisDisk) {
  run({"--on", desk.folder / "blue"});
  unplug("red");
  fs::rename(desk.folder / "blue", desk.folder / "red");
  Json report = run({"--on", desk.folder / "red"});
  EXPECT_EQ(report["set"], "c1-1");
  EXPECT_EQ(report["based_on"], "c1-0");
}

TEST_F(Rotation, TheListNamesEveryDiskAndWhatIsOnIt) {
  run({"--on", desk.folder / "blue"});
  unplug("red");
  Json json = desk.json({"shelf", "list", "desk"});
  ASSERT_EQ(json["shelves"].size(), 2U);
  EXPECT_EQ(json["shelves"][0]["sets"], 1);
  EXPECT_TRUE(json["shelves"][1]["shelf"].is_null());
  EXPECT_NE(json["shelves"][1]["problem"].get<std::string>().find("not plugged in"),
            std::string::npos);
  Ran ran = desk.kestrum({"shelf", "list", "desk"});
  EXPECT_NE(ran.out.find("newest c1-0"), std::string::npos) << ran.out;
}

TEST_F(Rotation, AShelfIsStartedOnceAPlace) {
  Ran ran = desk.kestrum({"shelf", "start", "desk", "--at", desk.folder / "blue", "--same-disk"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_NE(ran.err.find("a shelf already"), std::string::npos) << ran.err;
  ran = desk.kestrum({"shelf", "start", "desk", "--at", desk.folder / "green", "--same-disk"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_NE(ran.err.find("not one of the places"), std::string::npos) << ran.err;
}

TEST_F(Rotation, SeveralJobsRunInOneCall) {
  fs::create_directory(desk.folder / "other");
  put_file(desk.folder / "other/file", "x");
  ASSERT_EQ(desk.kestrum({"job", "new", "other", "--from", desk.folder / "other", "--to",
                          desk.folder / "blue", "--same-disk", "--protection", "none"})
                .exit,
            0);
  Json json = desk.json({"run", "desk", "other"});
  ASSERT_EQ(json["runs"].size(), 2U);
  EXPECT_EQ(json["runs"][1]["job"], "other");
  EXPECT_EQ(desk.json({"run", "--all"})["runs"].size(), 2U);
  // One that fails does not keep the others from running, and its code is the worse.
  unplug("blue");
  json = desk.json({"run", "other", "desk"}, 5);
  EXPECT_EQ(json["runs"][0]["exit"], 5);
  EXPECT_EQ(json["runs"][1]["exit"], 0);
}

// Two shelves stay two, whatever becomes of a full disk from now on.
TEST_F(Rotation, APassphraseIsChangedOnEveryShelf) {
  ASSERT_EQ(desk.kestrum({"job", "new", "two", "--from", desk.source(), "--to",
                          desk.folder / "blue", "--to", desk.folder / "red", "--same-disk"})
                .exit,
            0);
  ASSERT_EQ(desk.kestrum({"job", "set", "two", "destination.when_full", "ask"}).exit, 0);
  desk.environment["KESTRUM_NEXT_PASSPHRASE"] = "another one by now";
  EXPECT_EQ(desk.json({"passphrase", "two"})["changed"].size(), 2U);
}

}  // namespace
}  // namespace kestrum::test
