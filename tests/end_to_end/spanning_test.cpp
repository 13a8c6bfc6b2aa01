// A job whose sets go on from disk to disk (when_full = "ask"), on disks that are really full.
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>
#include <memory>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/small_disk.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

constexpr unsigned kDiskMegabytes = 20, kLastMegabytes = 80;

class Spanning : public testing::Test {
 protected:
  void SetUp() override {
    for (const char* name : {"blue", "green", "yellow"}) {
      fs::create_directories(at(name));
      unsigned size = name == std::string("yellow") ? kLastMegabytes : kDiskMegabytes;
      disks[name] = std::make_unique<SmallDisk>(desk.folder, at(name), size, DiskKind::kTmpfs);
      if (!disks[name]->mounted()) GTEST_SKIP() << disks[name]->why_not();
    }
  }
  void TearDown() override {
    for (const std::string& name : std::set<std::string>(out)) plug_in(name);
  }

  std::string at(const std::string& disk) const { return desk.folder / disk; }
  std::string shelf_on(const std::string& disk) const { return at(disk) + "/test-pc/desk"; }
  // Another filesystem lies over it, with nothing on it that is ours.
  void take_out(const std::string& disk) {
    Ran ran = run_program({"mount", "-t", "tmpfs", "-o", "size=64k", "none", at(disk)});
    ASSERT_EQ(ran.exit, 0) << ran.err;
    out.insert(disk);
  }
  void plug_in(const std::string& disk) {
    EXPECT_EQ(run_program({"umount", at(disk)}).exit, 0);
    out.erase(disk);
  }

  void define(const std::vector<std::string>& places, const std::vector<std::string>& more = {}) {
    std::vector<std::string> words = {"job",         "new",         "desk",        "--from",
                                      desk.source(), "--same-disk", "--part-size", "1 MB",
                                      "--when-full", "ask"};
    for (const std::string& place : places) {
      words.emplace_back("--to");
      words.push_back(at(place));
    }
    words.insert(words.end(), more.begin(), more.end());
    Ran ran = desk.kestrum(words);
    ASSERT_EQ(ran.exit, 0) << ran.out << ran.err;
  }
  // Content that does not shrink.
  void write_files(int from, int to, std::size_t bytes = 700'000) {
    for (int i = from; i < to; ++i) {
      put_file(desk.source() + "/take-" + std::to_string(100 + i) + ".wav",
               noise(bytes, static_cast<unsigned>(i)));
    }
  }
  Json run(int exit = 0) { return desk.json({"run", "desk"}, exit)["runs"][0]; }
  Json seal_of(const std::string& disk, const std::string& set) {
    for (const std::string& name : list_folder(shelf_on(disk) + "/sets")) {
      std::string prefix = set == "c1-0" ? "c0001-000_" : "c0001-001_";
      if (name.starts_with(prefix)) {
        return Json::parse(read_file(shelf_on(disk) + "/sets/" + name + "/seal.json"));
      }
    }
    ADD_FAILURE() << set << " is not on " << disk;
    return {};
  }
  void expect_comes_back(const std::string& point, const Tree& tree) {
    std::string to = desk.folder / ("back" + std::to_string(++backs));
    fs::create_directories(to);
    Ran ran = desk.kestrum({"restore", "desk", "--point", point, "--to", to, "--everything"});
    EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
    EXPECT_EQ(difference(tree, tree_of(to)), "") << point;
  }

  Desk desk;
  std::map<std::string, std::unique_ptr<SmallDisk>> disks;
  std::set<std::string> out;
  int backs = 0;
};

TEST_F(Spanning, GoesOnOnTheDiskThatIsPluggedIn) {
  write_files(0, 40);
  define({"blue", "green"});
  Json made = run();
  EXPECT_EQ(made["outcome"], "done");
  Json seal = seal_of("green", "c1-0");
  ASSERT_EQ(seal["disks"].size(), 2U) << seal.dump(2);
  EXPECT_EQ(seal["disks"][0]["name"], "blue");
  std::set<int> used;
  for (const Json& file : seal["files"]) {
    if (file["role"] == "part") used.insert(file["disk"].get<int>());
  }
  EXPECT_EQ(used, (std::set<int>{0, 1}));
  expect_comes_back("c1-0", tree_of(desk.source()));
  Json verified = desk.json({"verify", "desk", "--contents"});
  EXPECT_EQ(verified["damage"], Json::array()) << verified.dump(2);
  EXPECT_EQ(verified["restorable"], Json{"c1-0"});
  // The chain goes on, with the first disk on a shelf somewhere.
  take_out("blue");
  write_files(40, 44);
  EXPECT_EQ(run()["set"], "c1-1");
  plug_in("blue");
  expect_comes_back("c1-1", tree_of(desk.source()));
}

TEST_F(Spanning, WaitsForTheNextDiskAndKeepsWhatItHas) {
  write_files(0, 40);
  define({"blue", "green"});
  take_out("green");
  Json cut = run(6);
  EXPECT_GT(cut["kept"]["parts"], 10) << cut.dump(2);
  EXPECT_NE(cut["reason"].get<std::string>().find("blue is full; it goes on on green"),
            std::string::npos)
      << cut["reason"];
  run(6);
  take_out("blue");
  plug_in("green");
  Json made = run();
  EXPECT_EQ(made["set"], "c1-0");
  EXPECT_EQ(made["continued"], true);
  Json status = desk.json({"status", "desk"});
  EXPECT_EQ(status["jobs"][0]["state"], "fine") << status.dump(2);
  // Without the first disk nobody says that it is sound.
  Ran verified = desk.kestrum({"verify", "desk"});
  EXPECT_EQ(verified.exit, 1) << verified.out;
  EXPECT_EQ(verified.out.find("all sound"), std::string::npos) << verified.out;
  EXPECT_NE(verified.out.find("parts on blue were not checked"), std::string::npos) << verified.out;
  // What lies on the second alone comes back; the rest is named.
  std::string to = desk.folder / "some";
  fs::create_directories(to);
  Json restored = desk.json({"restore", "desk", "--to", to, "--everything"}, 5);
  EXPECT_GT(restored["restored"].size(), 10U);
  EXPECT_GT(restored["failed"].size(), 10U);
  for (const Json& failed : restored["failed"]) {
    EXPECT_NE(failed["reason"].get<std::string>().find("blue"), std::string::npos) << failed;
  }
  plug_in("blue");
  expect_comes_back("c1-0", tree_of(desk.source()));
}

TEST_F(Spanning, AsksForTheNextDiskWhereSomebodyIsThere) {
  write_files(0, 40);
  define({"blue", "green"});
  take_out("green");
  auto swap = [&] {
    take_out("blue");
    plug_in("green");
  };
  Ran ran = run_dialogue(shell_quoted(KESTRUM_PROGRAM) + " run desk", {{"Plug it in", "", swap}},
                         desk.environment);
  EXPECT_EQ(ran.exit, 0) << ran.out;
  EXPECT_EQ(ran.err, "");
  plug_in("blue");
  expect_comes_back("c1-0", tree_of(desk.source()));
  // Somebody who has no other disk at hand.
  desk.kestrum({"job", "set", "desk", "destination.places", at("yellow"), "--add"});
  write_files(40, 70);
  ran = run_dialogue(shell_quoted(KESTRUM_PROGRAM) + " run desk", {{"Plug it in", "stop"}},
                     desk.environment);
  EXPECT_EQ(ran.exit, 6) << ran.out;
  EXPECT_EQ(desk.json({"shelf", "start", "desk"})["waits"], true);
  EXPECT_EQ(run()["set"], "c1-1");
  expect_comes_back("c1-1", tree_of(desk.source()));
}

// Files that begin on one disk and end on the next, and large ones of which a later set holds what
// changed: each disk is asked for once, though but one of them fits in at a time.
TEST_F(Spanning, ARestoreAsksForEachDiskOnce) {
  write_files(0, 4, 6'000'000);
  define({"blue", "green", "yellow"});
  desk.kestrum({"job", "set", "desk", "source.stretches_above", "1 MB"});
  EXPECT_EQ(run()["set"], "c1-0");
  Tree first = tree_of(desk.source());
  for (int i = 0; i < 4; ++i) {  // a piece of each
    std::string path = desk.source() + "/take-" + std::to_string(100 + i) + ".wav";
    std::string bytes = read_file(path);
    bytes.replace(3'000'000, 200'000, noise(200'000, static_cast<unsigned>(90 + i)));
    put_file(path, bytes);
  }
  write_files(10, 40);
  EXPECT_EQ(run()["set"], "c1-1");
  Tree second = tree_of(desk.source());
  ASSERT_EQ(list_folder(shelf_on("yellow") + "/sets").size(), 2U);
  take_out("blue");
  take_out("green");
  for (const std::string point : {"c1-0", "c1-1"}) {
    std::string to = desk.folder / ("from-" + point);
    fs::create_directories(to);
    auto swap = [&](const std::string& now, const std::string& next) {
      return [this, now, next] {
        take_out(now);
        plug_in(next);
      };
    };
    std::vector<Turn> turns = {{"Plug it in", "", swap("yellow", "blue")},
                               {"Plug it in", "", swap("blue", "green")}};
    Ran ran = run_dialogue(shell_quoted(KESTRUM_PROGRAM) + " restore desk --everything --point " +
                               point + " --to " + to,
                           turns, desk.environment);
    EXPECT_EQ(ran.exit, 0) << ran.out;
    EXPECT_EQ(ran.err, "");
    EXPECT_EQ(difference(point == "c1-0" ? first : second, tree_of(to)), "") << point;
    EXPECT_EQ(list_folder(to).size(), point == "c1-0" ? 4U : 34U) << "nothing is left beside";
    take_out("green");
    plug_in("yellow");
  }
  // Nobody is there: what one disk has of large files is not taken for all of it.
  std::string to = desk.folder / "alone";
  fs::create_directories(to);
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", to, "--everything"}).exit, 5);
  for (const std::string& name : list_folder(to)) {
    EXPECT_EQ(read_file(to + "/" + name), read_file(desk.source() + "/" + name)) << name;
  }
}

TEST_F(Spanning, WhatADiskThatIsLostHeldIsStoredAnew) {
  write_files(0, 40);
  define({"blue", "green", "yellow"});
  run();
  take_out("blue");
  EXPECT_EQ(desk.kestrum({"shelf", "drop", "desk", "blue"}).exit, 0);
  Json made = run(1);  // that content was missing is a warning
  EXPECT_EQ(made["set"], "c1-1");
  expect_comes_back("c1-1", tree_of(desk.source()));
}

TEST_F(Spanning, IsPrunedOnlyWithAllItsDisks) {
  desk.on_day(0);
  write_files(0, 26);
  define({"blue", "green", "yellow"}, {"--kind", "full", "--keep-for", "2 days"});
  EXPECT_EQ(run()["set"], "c1-0");
  desk.on_day(10);
  write_files(50, 60, 10'000);
  fs::remove(desk.source() + "/take-100.wav");
  EXPECT_EQ(run()["set"], "c2-0");
  desk.on_day(20);
  take_out("blue");
  Ran kept = desk.kestrum({"prune", "desk", "--yes"});
  EXPECT_EQ(kept.exit, 0) << kept.out << kept.err;
  EXPECT_NE(kept.err.find("some of it lies on blue"), std::string::npos) << kept.err;
  EXPECT_EQ(desk.sets(), (std::set<std::string>{"c1-0", "c2-0"}));
  plug_in("blue");
  EXPECT_EQ(desk.kestrum({"prune", "desk", "--yes"}).exit, 0);
  EXPECT_EQ(desk.sets(), (std::set<std::string>{"c2-0"}));
  for (const std::string& name : list_folder(shelf_on("blue") + "/sets")) {
    EXPECT_FALSE(name.starts_with("c0001")) << name;
  }
  expect_comes_back("c2-0", tree_of(desk.source()));
}

// What says that it goes on on another disk is nobody's to remove who does not know it.
TEST_F(Spanning, PartsOfASetThatGoesOnElsewhereStay) {
  write_files(0, 3);
  define({"blue", "green"});
  run();
  std::string left = shelf_on("blue") + "/sets/c0007-000_2026-03-02_2100Z.unfinished";
  put_file(left + "/part-000001.tar.zst.age", noise(500'000, 1));
  put_file(left + "/goes-on.json", "{}");
  Json pruned = desk.json({"prune", "desk", "--to-free", "1 GB", "--break-promises", "--yes"}, 6);
  for (const Json& set : pruned["removed"]) EXPECT_TRUE(set["set"].is_string()) << set;
  write_files(3, 4);
  EXPECT_EQ(run()["outcome"], "done");
  EXPECT_EQ(list_folder(left).size(), 2U);
}

TEST_F(Spanning, DamageOnADiskThatIsOutIsNotForgotten) {
  write_files(0, 40);
  define({"blue", "green"});
  run();
  std::string sets = shelf_on("blue") + "/sets/";
  std::string part = sets + list_folder(sets).front() + "/part-000002.tar.zst.age";
  std::string bytes = read_file(part);
  bytes[bytes.size() / 2] ^= 1;
  put_file(part, bytes);
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 4);
  take_out("blue");
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 1);
  // What lies there is stored anew: it counts as lost as long as nobody has seen it whole.
  Json made = run();
  EXPECT_GT(made["files"]["copied"], 0) << made.dump(2);
}

TEST_F(Spanning, AnotherPcReadsAndTakesOverAllOfIt) {
  write_files(0, 40);
  define({"blue", "green"});
  run();
  write_files(40, 42);
  EXPECT_EQ(run()["set"], "c1-1");
  Tree tree = tree_of(desk.source());
  Desk other("back-office");
  std::string to = other.folder / "back";
  fs::create_directories(to);
  Ran ran = other.kestrum({"restore", "--shelf", shelf_on("green"), "--to", to, "--everything"});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_EQ(difference(tree, tree_of(to)), "");
  // What is left behind is not taken over, and what lies there stays.
  EXPECT_EQ(other.kestrum({"shelf", "claim", shelf_on("blue"), "--yes"}).exit, 5);
  EXPECT_EQ(other.kestrum({"shelf", "claim", shelf_on("green"), "--yes"}).exit, 0);
  Json verified = other.json({"verify", "desk", "--contents"}, 0);
  EXPECT_EQ(verified["damage"], Json::array()) << verified.dump(2);
  EXPECT_EQ(verified["restorable"].size(), 2U);
  take_out("blue");
  EXPECT_EQ(other.kestrum({"verify", "desk"}).exit, 1);
}

TEST_F(Spanning, ACopyHasAllOfItInOnePlace) {
  write_files(0, 40);
  define({"blue", "green"});
  run();
  Tree tree = tree_of(desk.source());
  std::string large = desk.folder / "large";
  fs::create_directories(large);
  take_out("blue");
  Ran ran = desk.kestrum({"shelf", "copy", "desk", "--to", large, "--same-disk"});
  EXPECT_EQ(ran.exit, 5) << ran.out << ran.err;
  EXPECT_NE(ran.err.find("not plugged in: blue"), std::string::npos) << ran.err;
  plug_in("blue");
  ran = desk.kestrum({"shelf", "copy", "desk", "--to", large, "--move-here", "--same-disk"});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  take_out("blue");
  take_out("green");
  Json verified = desk.json({"verify", "desk", "--contents"});
  EXPECT_EQ(verified["damage"], Json::array()) << verified.dump(2);
  EXPECT_EQ(verified["restorable"], Json{"c1-0"});
  expect_comes_back("c1-0", tree);
  write_files(40, 42);
  EXPECT_EQ(run()["set"], "c1-1");
}

TEST_F(Spanning, AFilledDiskThatIsErasedIsLetGoOf) {
  write_files(0, 40);
  define({"blue", "green", "yellow"});
  run();
  std::string erase = shell_quoted(KESTRUM_PROGRAM) + " shelf erase desk --on ";
  Ran ran = run_dialogue(erase + "yellow", {{"job's name", "desk"}}, desk.environment);
  EXPECT_EQ(ran.exit, 0) << ran.out;
  EXPECT_NE(ran.out.find("holds nothing yet"), std::string::npos) << ran.out;
  desk.kestrum({"job", "set", "desk", "destination.places", at("yellow"), "--add"});
  EXPECT_EQ(desk.kestrum({"shelf", "start", "desk"}).exit, 0);
  ran = run_dialogue(erase + "blue", {{"job's name", "desk"}}, desk.environment);
  EXPECT_EQ(ran.exit, 0) << ran.out;
  EXPECT_NE(ran.out.find("LOSE it"), std::string::npos) << ran.out;
  EXPECT_EQ(list_folder(at("blue")).size(), 0U);
  run(1);
  expect_comes_back("c1-1", tree_of(desk.source()));
}

TEST_F(Spanning, APassphraseThatChangedMeanwhileOpensTheNextDisk) {
  write_files(0, 40);
  define({"blue", "green"});
  take_out("green");
  run(6);
  desk.environment["KESTRUM_NEXT_PASSPHRASE"] = "another one by now";
  Ran ran = desk.kestrum({"passphrase", "desk"});
  ASSERT_EQ(ran.exit, 0) << ran.out << ran.err;
  desk.environment["KESTRUM_PASSPHRASE"] = "another one by now";
  take_out("blue");
  plug_in("green");
  run();
  Desk other("back-office");
  other.environment["KESTRUM_PASSPHRASE"] = "another one by now";
  ran = other.kestrum({"sets", "--shelf", shelf_on("green")});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  // A new key after the disk was left: what was kept is of another key, and is fetched once more.
  write_files(40, 70);
  fs::create_directories(at("yellow"));
  desk.kestrum({"job", "set", "desk", "destination.places", at("yellow"), "--add"});
  take_out("yellow");
  run(6);
  plug_in("yellow");
  ran = desk.kestrum({"shelf", "start", "desk"});
  ASSERT_EQ(ran.exit, 0) << ran.out << ran.err;
  ran = desk.kestrum({"passphrase", "desk", "--new-key"});
  EXPECT_EQ(ran.exit, 1) << ran.out << ran.err;
  EXPECT_NE(ran.out.find("not plugged in: blue"), std::string::npos) << ran.out;
  Json made = desk.json({"run", "desk"})["runs"][0];
  EXPECT_EQ(made["kind"], "full") << made.dump(2);
  plug_in("blue");
  expect_comes_back(made["set"], tree_of(desk.source()));
  EXPECT_EQ(desk.json({"verify", "desk"})["damage"], Json::array());
}

TEST_F(Spanning, ADiskThatOthersFilledIsLeftToo) {
  write_files(0, 3);
  define({"blue", "green"});
  EXPECT_EQ(run()["set"], "c1-0");
  run_script("cat /dev/zero > " + at("blue") + "/other 2>/dev/null || true");
  write_files(3, 6);
  EXPECT_EQ(run()["set"], "c1-1");
  EXPECT_TRUE(seal_of("green", "c1-1")["disks"].is_null()) << "all of it lies there";
  expect_comes_back("c1-0", [&] {
    Tree tree = tree_of(desk.source());
    std::erase_if(tree, [](const auto& entry) { return entry.first >= "/take-103"; });
    return tree;
  }());
  expect_comes_back("c1-1", tree_of(desk.source()));
}

// A PC with one place for a disk: each is put in for the one before.
TEST_F(Spanning, DisksTakeTurnsAtOnePlace) {
  fs::create_directories(at("slot"));
  auto put_in = [&](const std::string& disk) {
    run_program({"umount", at("slot")});
    ASSERT_EQ(run_program({"mount", "--bind", at(disk), at("slot")}).exit, 0);
  };
  put_in("blue");
  write_files(0, 70);
  define({"slot"});
  run(6);
  put_in("green");
  EXPECT_EQ(desk.json({"shelf", "start", "desk"})["waits"], true);
  run(6);
  put_in("yellow");
  EXPECT_EQ(desk.json({"shelf", "start", "desk"})["waits"], true);
  EXPECT_EQ(run()["set"], "c1-0");
  Json seal = seal_of("yellow", "c1-0");
  ASSERT_EQ(seal["disks"].size(), 3U) << seal.dump(2);
  std::set<std::string> names;
  for (const Json& disk : seal["disks"]) names.insert(disk["name"]);
  EXPECT_EQ(names, (std::set<std::string>{"slot", "slot#2", "slot#3"}));
  expect_comes_back("c1-0", tree_of(desk.source()));
  EXPECT_EQ(desk.json({"verify", "desk", "--contents"})["restorable"], Json{"c1-0"});
  Json list = desk.json({"shelf", "list", "desk"})["shelves"];
  EXPECT_EQ(list[0]["problem"], nullptr) << list.dump(2);
  run_program({"umount", at("slot")});
}

// Nothing of a disk is open any more where the next is asked for: it can be unmounted.
TEST_F(Spanning, ADiskCanBeTakenOutWhereTheNextIsAskedFor) {
  fs::create_directories(at("slot"));
  auto put_in = [&](const std::string& disk) {
    return run_program({"mount", "--bind", at(disk), at("slot")}).exit == 0;
  };
  auto swap_for = [&](const std::string& disk) {
    return [this, disk, put_in] {
      Ran gone = run_program({"umount", at("slot")});
      EXPECT_EQ(gone.exit, 0) << gone.err;
      EXPECT_TRUE(put_in(disk));
    };
  };
  ASSERT_TRUE(put_in("blue"));
  write_files(0, 40);
  define({"slot"});
  auto swap_and_start = [&] {
    swap_for("green")();
    EXPECT_EQ(desk.json({"shelf", "start", "desk"})["waits"], true);
  };
  Ran ran = run_dialogue(shell_quoted(KESTRUM_PROGRAM) + " run desk",
                         {{"Plug it in", "", swap_and_start}}, desk.environment);
  EXPECT_EQ(ran.exit, 0) << ran.out;
  EXPECT_EQ(ran.err, "");
  // The same of a restore. The disks are not found where they were mounted first.
  for (const char* disk : {"blue", "green"}) take_out(disk);
  std::string to = desk.folder / "back";
  fs::create_directories(to);
  auto swap_back = [&] {
    EXPECT_EQ(run_program({"umount", at("slot")}).exit, 0);
    plug_in("blue");
    EXPECT_TRUE(put_in("blue"));
  };
  ran = run_dialogue(shell_quoted(KESTRUM_PROGRAM) + " restore desk --everything --to " + to,
                     {{"Plug it in", "", swap_back}}, desk.environment);
  EXPECT_EQ(ran.exit, 0) << ran.out;
  EXPECT_EQ(ran.err, "");
  EXPECT_EQ(difference(tree_of(desk.source()), tree_of(to)), "");
  run_program({"umount", at("slot")});
}

}  // namespace
}  // namespace kestrum::test
