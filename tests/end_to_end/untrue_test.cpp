// Places where the program once said, or did, what was not so.
#include <gtest/gtest.h>
#include <signal.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/cut_run.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Untrue : public testing::Test {
 protected:
  void SetUp() override { put_file(desk.source() + "/file", "one"); }
  Json status() { return desk.json({"status", "desk"})["jobs"][0]; }
  std::string all(const std::vector<std::string>& words) {
    Ran ran = desk.kestrum(words);
    return ran.out + ran.err;
  }
  // A run that is killed once it copies.
  void run_and_kill() {
    for (int i = 0; i < 40; ++i) {
      put_file(desk.source() + "/large-" + std::to_string(i), noise(4'000'000, 100 + i));
    }
    auto writes = [&] {
      std::error_code ec;
      for (const auto& entry : fs::recursive_directory_iterator(desk.shelf() + "/sets", ec)) {
        if (entry.is_regular_file(ec) && entry.file_size(ec) > 1'000'000) return true;
      }
      return false;
    };
    run_until(desk, "10 MB/s", writes, [](const Background& run) { run.signal(SIGKILL); });
  }
  Desk desk;
};

TEST_F(Untrue, APlaceThatIsASlipIsNoFailedRun) {
  desk.define();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  Ran ran = desk.kestrum({"run", "desk", "--on", "/nowhere"});
  EXPECT_EQ(ran.exit, 2) << ran.err;
  EXPECT_NE(ran.err.find(desk.disk()), std::string::npos) << ran.err;
  EXPECT_EQ(desk.json({"history", "desk"})["runs"].size(), 1u);
  EXPECT_EQ(desk.kestrum({"prune", "desk", "--on", "/nowhere"}).exit, 2);
}

TEST_F(Untrue, TheFirstRunEverComparesWithNoSet) {
  desk.define();
  std::string path = desk.folder / "home/jobs/desk.toml", text = read_file(path);
  text.insert(text.find("[source]\n") + 9, "bigger_than = \"1 GB\"\n");
  write_file(path, text);
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ((ran.out + ran.err).find("changed since the last set"), std::string::npos) << ran.err;
}

// A disk of former times is known by its label, and not written to.
TEST_F(Untrue, APlaceThatTheJobNoLongerNamesIsNotWrittenTo) {
  desk.define();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string other = desk.folder / "other-disk", path = desk.folder / "home/jobs/desk.toml";
  fs::create_directories(other);
  std::string text = read_file(path);
  text.replace(text.find(desk.disk()), desk.disk().size(), other);
  write_file(path, text);
  for (const std::vector<std::string>& words :
       {std::vector<std::string>{"run", "desk", "--on", desk.disk()},
        {"prune", "desk", "--on", desk.disk()}}) {
    Ran ran = desk.kestrum(words);
    EXPECT_EQ(ran.exit, 5) << ran.out << ran.err;
    EXPECT_NE(ran.err.find("does not name this disk any more"), std::string::npos) << ran.err;
  }
  EXPECT_EQ(list_folder(desk.shelf() + "/sets").size(), 1u);
  ASSERT_EQ(desk.kestrum({"shelf", "start", "desk", "--same-disk"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  EXPECT_EQ(list_folder(desk.shelf() + "/sets").size(), 1u);
}

TEST_F(Untrue, ARunThatWasKilledIsInTheHistoryAndNoJobIsFineAfterIt) {
  desk.define();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  run_and_kill();
  Json runs = desk.json({"history", "desk"})["runs"];
  ASSERT_EQ(runs.size(), 2u) << runs.dump(1);
  EXPECT_NE(runs.dump().find("it was cut off"), std::string::npos) << runs.dump(1);
  Json job = status();
  EXPECT_NE(job["state"], "fine") << job.dump(1);
  EXPECT_EQ(job["outcome"], "failed") << job.dump(1);
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  runs = desk.json({"history", "desk"})["runs"];
  EXPECT_EQ(runs.size(), 3u) << runs.dump(1);
  EXPECT_EQ(status()["outcome"], "done");
}

// What `sets` says of the parts is what the next run does.
TEST_F(Untrue, WhatBecomesOfTheFirstRunsPartsIsSaidRight) {
  desk.define();
  run_and_kill();
  std::string said = all({"sets", "desk"});
  bool goes_on = said.find("the next run goes on with it") != std::string::npos;
  EXPECT_NE(goes_on, said.find("the next run removes it") != std::string::npos) << said;
  Ran ran = desk.kestrum({"run", "desk", "--verbose"});
  bool removed = (ran.out + ran.err).find("removed") != std::string::npos;
  EXPECT_EQ(removed, !goes_on) << said << ran.out << ran.err;
}

// What the program itself sends to a terminal is sent, not shown.
TEST_F(Untrue, ColoursOnATerminalAreColours) {
  desk.define({"--protection", "none"});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  for (const std::string& words : {std::string("status desk"), std::string("run desk")}) {
    Environment terminal = desk.environment;
    terminal["TERM"] = "xterm";
    Ran ran = run_on_terminal(shell_quoted(KESTRUM_PROGRAM) + " " + words, "", terminal);
    EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
    EXPECT_NE(ran.out.find("\x1b["), std::string::npos) << words << ": " << ran.out;
    EXPECT_EQ(ran.out.find("\\x1b"), std::string::npos) << words << ": " << ran.out;
  }
}

TEST_F(Untrue, UnderASimulatedClockNothingIsToldByTheRealOne) {
  desk.on_day(0);
  desk.define();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"drill", "desk", "--files", "1"}).exit, 0);
  desk.on_day(2);
  fs::rename(desk.disk(), desk.disk() + ".away");
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 5);
  EXPECT_NE(ran.err.find("last seen 2 days ago"), std::string::npos) << ran.err;
  std::string told = all({"status", "desk"});
  EXPECT_NE(told.find("2 days ago, 1 file"), std::string::npos) << told;
  for (const auto& name : list_folder(desk.folder / "home/state/runs/desk")) {
    if (!name.ends_with(".log")) continue;
    std::string log = read_file(desk.folder / "home/state/runs/desk" + ("/" + name));
    EXPECT_TRUE(log.starts_with("2026-03-0")) << log;
  }
}

}  // namespace
}  // namespace kestrum::test
