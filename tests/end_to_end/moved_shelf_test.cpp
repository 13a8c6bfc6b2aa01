// A job's shelf moves to another disk: the chain goes on there, and where it was nothing is written
// any more, however that disk comes back.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class MovedShelf : public testing::Test {
 protected:
  void SetUp() override {
    desk.define({"--part-size", "100 kB"});
    fs::create_directories(second());
    for (int i = 0; i < 3; ++i) run_of(i);
  }
  void run_of(int seed) {
    put_file(desk.source() + "/file-" + std::to_string(seed),
             noise(150'000, static_cast<unsigned>(seed)));
    Ran ran = desk.kestrum({"run", "desk"});
    ASSERT_EQ(ran.exit, 0) << ran.out << ran.err;
    trees.push_back(tree_of(desk.source()));
  }
  std::string second() const { return desk.folder / "second"; }
  std::string new_home() const { return second() + "/test-pc/desk"; }
  std::string job_file() const { return desk.folder / "home/jobs/desk.toml"; }
  std::string pin() const {
    for (const std::string& name : list_folder(desk.folder / "home/state")) {
      std::string path = desk.folder / ("home/state/" + name + "/pin.json");
      if (path_exists(path)) return path;
    }
    return "";
  }
  Ran move(const std::vector<std::string>& more = {}) {
    std::vector<std::string> words = {"shelf",  "copy",        "desk",       "--to",
                                      second(), "--move-here", "--same-disk"};
    words.insert(words.end(), more.begin(), more.end());
    return desk.kestrum(words);
  }
  // Every restore point comes back, from where the job's shelf is now.
  void expect_all_points() {
    Json verified = desk.json({"verify", "desk", "--contents"});
    EXPECT_EQ(verified["damage"], Json::array());
    EXPECT_EQ(verified["restorable"].size(), trees.size());
    for (std::size_t i = 0; i < trees.size(); ++i) {
      std::string to = desk.folder / ("back" + std::to_string(++backs));
      fs::create_directories(to);
      Ran ran = desk.kestrum(
          {"restore", "desk", "--point", "c1-" + std::to_string(i), "--to", to, "--everything"});
      EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
      EXPECT_EQ(difference(trees[i], tree_of(to)), "") << i;
    }
  }
  Desk desk;
  std::vector<Tree> trees;
  int backs = 0;
};

TEST_F(MovedShelf, GoesOnInItsNewPlace) {
  Ran ran = move();
  ASSERT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_NE(ran.out.find("desk has moved to " + new_home()), std::string::npos) << ran.out;
  Tree old = tree_of(desk.disk());
  run_of(3);
  Json sets = desk.json({"sets", "desk"});
  EXPECT_EQ(sets["chains"].size(), 1U);
  EXPECT_EQ(sets["chains"][0]["sets"].size(), 4U);
  EXPECT_EQ(sets["shelf"], new_home());
  expect_all_points();
  EXPECT_EQ(difference(old, tree_of(desk.disk())), "") << "nothing is written there";
  Json shelves = desk.json({"shelf", "list", "desk"})["shelves"];
  ASSERT_EQ(shelves.size(), 1U);
  EXPECT_EQ(shelves[0]["place"], second());
  // The old one is read by name, and says what it is.
  ran = desk.kestrum({"sets", "--shelf", desk.shelf()});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_NE(ran.err.find("has moved to " + second()), std::string::npos) << ran.err;
  Json fleet = desk.json({"status", "--shelves", desk.folder.path()});
  EXPECT_NE(fleet.dump().find("it has moved to " + new_home()), std::string::npos) << fleet.dump(1);
  EXPECT_EQ(fleet.dump().find("one is a copy"), std::string::npos) << fleet.dump(1);
  Ran claimed = Desk("other-pc").kestrum({"shelf", "claim", desk.shelf()});
  EXPECT_EQ(claimed.exit, 5) << claimed.err;
}

// The new disk is away, and the old one is back: as it is, as it was before it was marked, and
// named by the job again.
TEST_F(MovedShelf, IsNeverWrittenToWhereItWas) {
  fs::copy(desk.disk(), desk.folder / "before", fs::copy_options::recursive);
  ASSERT_EQ(move().exit, 0);
  run_of(3);
  fs::rename(second(), desk.folder / "away");
  for (bool as_before : {false, true}) {
    if (as_before) {
      fs::rename(desk.disk(), desk.folder / "marked");
      fs::rename(desk.folder / "before", desk.disk());
    }
    Tree old = tree_of(desk.disk());
    EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 5);
    EXPECT_EQ(desk.kestrum({"job", "set", "desk", "destination.places", desk.disk(), "--add"}).exit,
              0);
    Ran ran = desk.kestrum({"run", "desk", "--on", desk.disk()});
    EXPECT_EQ(ran.exit, 5) << ran.out << ran.err;
    EXPECT_NE(ran.err.find("has moved from"), std::string::npos) << ran.err;
    EXPECT_EQ(desk.kestrum({"prune", "desk", "--on", desk.disk()}).exit, 5);
    EXPECT_EQ(
        desk.kestrum({"job", "set", "desk", "destination.places", desk.disk(), "--drop"}).exit, 0);
    EXPECT_EQ(difference(old, tree_of(desk.disk())), "");
  }
  fs::rename(desk.folder / "away", second());
  run_of(4);
  expect_all_points();
}

// What a power cut leaves between two steps: the same command finishes it, and no run writes in
// between to where the shelf was.
TEST_F(MovedShelf, IsFinishedWhereverItWasCutOff) {
  ASSERT_EQ(desk.kestrum({"shelf", "copy", "desk", "--to", second(), "--same-disk"}).exit, 0);
  fs::copy(desk.folder.path(), std::string(desk.folder.path()) + ".before",
           fs::copy_options::recursive);
  std::string before = std::string(desk.folder.path()) + ".before";
  ASSERT_EQ(move().exit, 0);
  fs::copy(desk.folder.path(), std::string(desk.folder.path()) + ".after",
           fs::copy_options::recursive);
  std::string after = std::string(desk.folder.path()) + ".after";
  auto below = [&](const std::string& path, const std::string& top) {
    return top + path.substr(std::string(desk.folder.path()).size());
  };
  auto take = [&](const std::string& path, const std::string& top) {
    fs::copy_file(below(path, top), path, fs::copy_options::overwrite_existing);
  };
  std::vector<std::vector<std::string>> steps = {
      {job_file()},
      {new_home() + "/shelf.json", new_home() + "/shelf.json.minisig"},
      {desk.shelf() + "/shelf.json", desk.shelf() + "/shelf.json.minisig"}};
  for (std::size_t done = 0; done <= steps.size(); ++done) {
    SCOPED_TRACE(done);
    for (std::size_t i = 0; i < steps.size(); ++i) {
      for (const std::string& path : steps[i]) take(path, i < done ? after : before);
    }
    Json record = Json::parse(read_file(below(pin(), before)));
    record["moving_to"] = second();
    write_file(pin(), record.dump());
    Tree old = tree_of(desk.disk());
    EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 5);
    Ran status = desk.kestrum({"status", "desk"});
    EXPECT_NE(status.out.find("was cut off"), std::string::npos) << status.out;
    EXPECT_EQ(difference(old, tree_of(desk.disk())), "");
    Ran ran = move();
    EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
    for (const auto& step : steps) {
      for (const std::string& path : step) {
        if (path.ends_with(".json") || path == job_file()) {
          EXPECT_EQ(read_file(path), read_file(below(path, after))) << path;
        }
      }
    }
    EXPECT_EQ(Json::parse(read_file(pin()))["moves"], 1);
  }
  run_of(3);
  expect_all_points();
  fs::remove_all(before);
  fs::remove_all(after);
}

TEST_F(MovedShelf, StaysIfNotAllCanBeCopied) {
  std::string part = desk.set_folder("c1-1") + "/part-000001.tar.zst.age";
  std::string bytes = read_file(part);
  bytes[1000] ^= 1;
  put_file(part, bytes);
  std::string job = read_file(job_file());
  Ran ran = move();
  EXPECT_EQ(ran.exit, 4) << ran.out << ran.err;
  EXPECT_NE(ran.out.find("stays where it is"), std::string::npos) << ran.out;
  EXPECT_EQ(read_file(job_file()), job);
  run_of(3);
  EXPECT_EQ(desk.json({"sets", "desk"})["shelf"], desk.shelf());
}

TEST_F(MovedShelf, MovesAgainAndBack) {
  ASSERT_EQ(move().exit, 0);
  run_of(3);
  std::string third = desk.folder / "third";
  fs::create_directories(third);
  ASSERT_EQ(
      desk.kestrum({"shelf", "copy", "desk", "--to", third, "--move-here", "--same-disk"}).exit, 0);
  run_of(4);
  // Back to the first disk: what was left there is in the way until it is erased.
  Ran ran =
      desk.kestrum({"shelf", "copy", "desk", "--to", desk.disk(), "--move-here", "--same-disk"});
  EXPECT_EQ(ran.exit, 2) << ran.out << ran.err;
  EXPECT_EQ(run_program({KESTRUM_PROGRAM, "shelf", "erase", "desk", "--on", desk.disk()},
                        desk.environment, "desk\n")
                .exit,
            0);
  ran = desk.kestrum({"shelf", "copy", "desk", "--to", desk.disk(), "--move-here", "--same-disk"});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  run_of(5);
  expect_all_points();
}

}  // namespace
}  // namespace kestrum::test
