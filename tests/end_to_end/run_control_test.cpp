// What goes on around a run: commands, stopping, power off, rates, priorities.
#include <gtest/gtest.h>

#include <csignal>
#include <filesystem>

#include "kestrum/base/file.h"
#include "support/fake_login_manager.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class RunControl : public testing::Test {
 protected:
  void define(const std::string& more) {
    put_file(desk.source() + "/file.txt", "one");
    desk.define({"--protection", "none"});
    std::string path = desk.folder / "home/jobs/desk.toml";
    put_file(path, read_file(path) + "\n" + more);
  }
  std::string log() { return desk.kestrum({"history", "desk", "--show", "newest"}).out; }
  Json run(int exit = 0) { return desk.json({"run", "desk"}, exit)["runs"][0]; }
  // A source that takes some seconds at the job's rate.
  void define_slow() {
    define("[effort]\nlimit = \"1 MB/s\"\n");
    put_file(desk.source() + "/noise", noise(20'000'000, 1));
  }
  Desk desk;
};

TEST_F(RunControl, CommandsAreToldWhatTheyNeedAndNeverASecret) {
  define(
      "[before_run]\ncommand = \"echo ready for $KESTRUM_JOB; env | grep -i passphrase || true\"\n"
      "[after_run]\ncommand = \"echo $KESTRUM_OUTCOME $KESTRUM_SET $KESTRUM_KIND "
      "$KESTRUM_FILES_COPIED\"\n");
  EXPECT_EQ(run()["outcome"], "done");
  std::string text = log();
  EXPECT_NE(text.find("  ready for desk\n"), std::string::npos) << text;
  EXPECT_NE(text.find("  done c1-0 full 1\n"), std::string::npos) << text;
  EXPECT_EQ(text.find("salt and sand"), std::string::npos);
  EXPECT_EQ(text.find("KESTRUM_PASSPHRASE"), std::string::npos);
}

TEST_F(RunControl, AFailingBeforeStopsTheRunAndAfterIsStillTold) {
  std::string told = desk.folder / "told";
  define(
      "[before_run]\ncommand = \"echo no database; exit 7\"\n[after_run]\ncommand = \"echo "
      "$KESTRUM_OUTCOME: "
      "$KESTRUM_REASON >'" +
      told + "'\"\n");
  Json report = run(3);
  EXPECT_EQ(report["outcome"], "failed");
  EXPECT_TRUE(report["set"].is_null());
  EXPECT_NE(report["reason"].get<std::string>().find("exit code 7"), std::string::npos);
  EXPECT_EQ(read_file(told), "failed: before_run.command failed: exit code 7\n");
  EXPECT_NE(log().find("no database"), std::string::npos);
  EXPECT_TRUE(desk.json({"sets", "desk"})["chains"].empty());
}

TEST_F(RunControl, AFailingAfterIsAWarningOfARunThatIsDone) {
  define("[after_run]\ncommand = \"exit 3\"\n");
  Json report = run(1);
  EXPECT_EQ(report["outcome"], "done with warnings");
  EXPECT_EQ(report["set"], "c1-0");
}

TEST_F(RunControl, ACommandThatTakesTooLongIsEnded) {
  define("[before_run]\ncommand = \"sleep 100\"\ntime_limit = \"1 second\"\n");
  EXPECT_NE(run(3)["reason"].get<std::string>().find("time limit"), std::string::npos);
}

TEST_F(RunControl, BeforeMayBringTheDiskAndAfterMayTakeItAway) {
  put_file(desk.source() + "/file.txt", "one");
  desk.define({"--protection", "none"});
  std::string away = desk.folder / "drawer", path = desk.folder / "home/jobs/desk.toml";
  fs::rename(desk.disk(), away);
  put_file(path, read_file(path) + "\n[before_run]\ncommand = \"mv '" + away + "' '" + desk.disk() +
                     "'\"\n[after_run]\ncommand = \"mv '" + desk.disk() + "' '" + away + "'\"\n");
  EXPECT_EQ(run()["set"], "c1-0");
  EXPECT_TRUE(fs::exists(away) && !fs::exists(desk.disk()));
  EXPECT_EQ(run()["set"], "c1-1");
}

TEST_F(RunControl, StopEndsARunInOrder) {
  define_slow();
  Background running({KESTRUM_PROGRAM, "run", "desk"}, desk.environment);
  ASSERT_TRUE(eventually([&] {
    return !desk.json({"status", "desk"})["jobs"][0]["running"].is_null();
  }));
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 8) << "one run at a time";
  EXPECT_EQ(desk.kestrum({"forecast", "desk"}).exit, 8);
  Nanos asked = real_now();
  EXPECT_EQ(desk.json({"stop", "desk"})["stopped"], true);
  EXPECT_LT(real_now() - asked, 12 * kSecond) << "its twenty seconds are not waited for";
  Ran ran = running.wait();
  EXPECT_EQ(ran.exit, 130) << ran.out << ran.err;
  EXPECT_EQ(desk.json({"status", "desk"})["jobs"][0]["outcome"], "stopped");
  EXPECT_EQ(desk.json({"stop", "desk"})["stopped"], false) << "nothing runs any more";
  EXPECT_TRUE(desk.json({"sets", "desk"})["chains"].empty());
}

TEST_F(RunControl, ASignalEndsAllJobsOfARun) {
  define_slow();
  Background running({KESTRUM_PROGRAM, "run", "--all"}, desk.environment);
  ASSERT_TRUE(eventually([&] {
    return !desk.json({"status", "desk"})["jobs"][0]["running"].is_null();
  }));
  running.signal(SIGTERM);
  EXPECT_EQ(running.wait().exit, 130);
}

TEST_F(RunControl, ARateIsHeld) {
  define("[effort]\nlimit = \"8 MB/s\"\n");
  put_file(desk.source() + "/noise", noise(16'000'000, 1));
  Json report = run();
  double rate = report["bytes"]["stored"].get<double>() / report["seconds"].get<double>();
  EXPECT_LT(rate, 8.8e6);
  EXPECT_GT(rate, 1.1e6) << "as it would be in bits; a busy machine is slower, but not so much";
}

TEST_F(RunControl, PriorityIsLowUnlessTheJobSaysOtherwise) {
  for (const char* priority : {"low", "normal"}) {
    Desk own;
    put_file(own.source() + "/file.txt", "one");
    own.define({"--protection", "none"});
    std::string seen = own.folder / "nice", path = own.folder / "home/jobs/desk.toml";
    put_file(path, read_file(path) + "\n[effort]\npriority = \"" + priority +
                       "\"\n[before_run]\ncommand = \"nice >'" + seen + "'; ionice >>'" + seen +
                       "'\"\n");
    EXPECT_EQ(own.kestrum({"run", "desk"}).exit, 0);
    std::string text = read_file(seen);
    if (std::string(priority) == "low") {
      EXPECT_TRUE(text.starts_with("10\n")) << text;
      EXPECT_NE(text.find("idle"), std::string::npos) << text;
    } else {
      EXPECT_TRUE(text.starts_with(run_program({"nice"}).out)) << text;
    }
  }
}

// Where the kernel shares out time by session, a nice value counts within one only.
TEST_F(RunControl, ASessionWithoutTerminalGivesWayAsAWholeWhileALowRunIsAtWork) {
  if (!path_exists("/proc/self/autogroup")) GTEST_SKIP() << "sessions are not told apart here";
  Desk own;
  own.program = {"setsid", "--wait", KESTRUM_PROGRAM};
  for (const char* name : {"a-normal", "b-low", "c-normal"}) {
    std::string disk = own.folder / name;
    put_file(own.source() + "/file.txt", "one");
    make_folders(disk);
    EXPECT_EQ(own.kestrum({"job", "new", name, "--from", own.source(), "--to", disk, "--same-disk",
                           "--protection", "none"})
                  .exit,
              0);
    std::string path = own.folder / ("home/jobs/" + std::string(name) + ".toml");
    put_file(path, read_file(path) + "\n[effort]\npriority = \"" + (name + 2) +
                       "\"\n[before_run]\ncommand = \"cat /proc/self/autogroup >'" +
                       own.folder.path() + "/" + name + ".nice'\"\n");
  }
  EXPECT_EQ(own.kestrum({"run", "--all"}).exit, 0);
  EXPECT_TRUE(read_file(own.folder / "a-normal.nice").ends_with("nice 0\n"));
  EXPECT_TRUE(read_file(own.folder / "b-low.nice").ends_with("nice 10\n"));
  EXPECT_TRUE(read_file(own.folder / "c-normal.nice").ends_with("nice 0\n"));
}

TEST_F(RunControl, PowerOffIsAskedForAfterARunThatIsDone) {
  define("[after_run]\nthen = \"power off\"\n");
  FakeLoginManager manager;
  if (!manager.ready()) GTEST_SKIP() << "no dbus-daemon here";
  desk.environment["DBUS_SYSTEM_BUS_ADDRESS"] = manager.address();
  fs::rename(desk.disk(), desk.disk() + "-away");
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 5);
  EXPECT_EQ(manager.scheduled(), "") << "a run that failed leaves the PC on";
  fs::rename(desk.disk() + "-away", desk.disk());
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 0);
  EXPECT_EQ(manager.scheduled(), "poweroff");
  EXPECT_NE(manager.wall_message().find("desk is backed up"), std::string::npos);
  EXPECT_NE(ran.err.find("shutdown -c"), std::string::npos) << "how to cancel it: " << ran.err;
}

TEST_F(RunControl, PowerOffWaitsForWhatIsDueToo) {
  FakeLoginManager manager;
  if (!manager.ready()) GTEST_SKIP() << "no dbus-daemon here";
  desk.environment["DBUS_SYSTEM_BUS_ADDRESS"] = manager.address();
  desk.environment["KESTRUM_NOW"] = "2026-03-01T20:00:00Z";
  define("[after_run]\nthen = \"power off\"\n");
  ASSERT_EQ(desk.kestrum({"job", "new", "other", "--from", desk.source(), "--to", desk.disk(),
                          "--same-disk", "--protection", "none", "--when", "every day at 21:00"})
                .exit,
            0);
  desk.kestrum({"run", "--due"});
  desk.environment["KESTRUM_NOW"] = "2026-03-01T21:30:00Z";
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  EXPECT_EQ(manager.scheduled(), "poweroff");
  EXPECT_EQ(desk.json({"history", "other"})["runs"][0]["set"], "c1-0");
}

TEST_F(RunControl, LastRunIsWrittenToTheShelfAfterEveryAttempt) {
  define("");
  run();
  EXPECT_EQ(Json::parse(read_file(desk.shelf() + "/last-run.json"))["outcome"], "done");
  fs::rename(desk.source(), desk.source() + "-away");
  desk.kestrum({"run", "desk", "--kind", "full"});
  EXPECT_EQ(Json::parse(read_file(desk.shelf() + "/last-run.json"))["outcome"], "failed");
}

TEST_F(RunControl, ARehearsalWritesNothing) {
  define("");
  std::string before =
      run_program({"find", desk.folder.path(), "-newermt", "@0", "-type", "f"}).out;
  Json answer = desk.json({"run", "desk", "--rehearse"});
  EXPECT_EQ(answer["rehearsed"][0]["files"]["copied"], 1);
  EXPECT_TRUE(desk.json({"sets", "desk"})["chains"].empty());
  EXPECT_EQ(desk.json({"history", "desk"})["runs"].size(), 0u);
}

}  // namespace
}  // namespace kestrum::test
