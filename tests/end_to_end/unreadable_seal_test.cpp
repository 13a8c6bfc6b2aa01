// A seal that is there and cannot be read: nobody knows what the set is, so nothing goes by
// guesses.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class UnreadableSeal : public testing::Test {
 protected:
  // Two chains of two sets, of which nothing is promised but the newest.
  void SetUp() override {
    desk.on_day(0);
    desk.define({"--protection", "none", "--keep-for", "0 days", "--new-full",
                 "after 1 incrementals", "--when-full", "stop"});
    for (int day = 0; day < 4; ++day) run(day);
    std::string job = desk.folder / "home/jobs/desk.toml";
    std::string text = read_file(job);
    write_file(job, text.replace(text.find("\"stop\""), 6, "\"prune\""));
  }
  Json run(int day, int exit = 0) {
    desk.on_day(day);
    put_file(desk.source() + "/file", "day " + std::to_string(day));
    return desk.json({"run", "desk"}, exit)["runs"][0];
  }
  std::set<std::string> numbers() {
    std::set<std::string> found;
    for (const auto& name : list_folder(desk.shelf() + "/sets")) found.insert(name.substr(0, 9));
    return found;
  }
  std::string file_of(const std::string& set) {
    std::string to = desk.folder / ("back-" + set);
    Ran ran = desk.kestrum({"restore", "desk", "--point", set, "--to", to});
    return ran.exit == 0 ? read_file(to + "/file") : ran.err;
  }
  Desk desk;
};

TEST_F(UnreadableSeal, HoldsAllPruningUntilVerifyHasRecordedIt) {
  std::string seal = desk.set_folder("c2-1") + "/seal.json", good = read_file(seal);
  put_file(seal, "garbled");
  Json made = run(4, 1);
  EXPECT_EQ(made["set"], "c3-0") << "nothing is built on what cannot be read";
  EXPECT_EQ(made["pruned"], Json::array());
  EXPECT_EQ(numbers().size(), 5u);
  EXPECT_NE(made["warnings"].dump().find("nothing is pruned"), std::string::npos) << made;
  Ran pruned = desk.kestrum({"prune", "desk", "--to-free", "1 MB", "--break-promises"});
  EXPECT_EQ(pruned.exit, 6);
  EXPECT_NE(pruned.out.find("the seal of c2-1 cannot be read"), std::string::npos) << pruned.out;
  EXPECT_EQ(numbers().size(), 5u);
  EXPECT_EQ(file_of("c1-0"), "day 0");
  EXPECT_EQ(file_of("c1-1"), "day 1");
  EXPECT_EQ(file_of("c2-0"), "day 2") << "what it may lean on";

  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 4);
  EXPECT_NE(desk.json({"status", "desk"})["jobs"][0]["state"], "fine");
  Json prune = desk.json({"prune", "desk"});
  EXPECT_EQ(numbers(), (std::set<std::string>{"c0002-000", "c0002-001", "c0003-000"})) << prune;
  put_file(seal, good);
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 0);
  EXPECT_EQ(file_of("c2-1"), "day 3") << "somebody had a copy of the seal";
  desk.json({"prune", "desk"});
  EXPECT_EQ(numbers(), (std::set<std::string>{"c0003-000"}));
}

TEST_F(UnreadableSeal, OfAnUnfinishedFolderIsNotWhatARunLeft) {
  std::string folder = desk.set_folder("c2-1"), half = folder + ".unfinished";
  std::string good = read_file(folder + "/seal.json");
  fs::rename(folder, half);
  put_file(half + "/seal.json", "garbled");
  EXPECT_EQ(run(4, 1)["set"], "c3-0");
  ASSERT_TRUE(path_exists(half)) << "it may be whole";
  put_file(half + "/seal.json", good);
  EXPECT_EQ(file_of("c2-1"), "day 3");
  run(5);
  EXPECT_FALSE(path_exists(half)) << "its rename is finished, and then nothing holds it any more";
}

TEST_F(UnreadableSeal, NumbersAreNotUsedAgain) {
  std::string full = desk.set_folder("c2-0"), dependent = desk.set_folder("c2-1");
  put_file(full + "/seal.json", "garbled");
  put_file(dependent + "/seal.json", "garbled");
  for (const auto& name : list_folder(desk.folder / "home/state")) {
    std::string index = desk.folder / ("home/state/" + name + "/index.sqlite");
    if (path_exists(index)) fs::remove(index);
  }
  // Another PC's run is at work here, or was.
  fs::create_directory(desk.shelf() + "/sets/c0003-000_2026-03-04_2100Z.unfinished");
  EXPECT_EQ(run(4, 1)["set"], "c4-0");
}

TEST_F(UnreadableSeal, AFolderThatLostItsSealIsNobodysToRemoveAndHoldsItsChainAlone) {
  std::string seal = desk.set_folder("c2-1") + "/seal.json", good = read_file(seal);
  fs::remove(seal);
  EXPECT_EQ(run(4)["pruned"], (Json{"c1-1", "c1-0"}));
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 4);
  put_file(seal, good);
  EXPECT_EQ(file_of("c2-1"), "day 3");
}

}  // namespace
}  // namespace kestrum::test
