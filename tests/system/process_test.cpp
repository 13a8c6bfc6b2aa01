#include "kestrum/system/process.h"

#include <gtest/gtest.h>

#include "support/program.h"

namespace kestrum::test {
namespace {

std::vector<std::string> lines;
CommandResult run(const std::string& command, Nanos limit = 10 * kSecond, StopRequest stop = {}) {
  lines.clear();
  return run_shell_command(command, {{"KESTRUM_JOB", "front-desk"}}, limit, stop,
                           [](const std::string& line) { lines.push_back(line); });
}

TEST(ShellCommand, GivesItsLinesAndItsEnvironment) {
  EXPECT_TRUE(run("echo one; echo two >&2; echo \"$KESTRUM_JOB\"; printf last").ok);
  EXPECT_EQ(lines, (std::vector<std::string>{"one", "two", "front-desk", "last"}));
}

TEST(ShellCommand, SaysHowItFailed) {
  EXPECT_EQ(run("exit 3").reason, "exit code 3");
  EXPECT_EQ(run("no-such-program-here").reason, "exit code 127");
  EXPECT_EQ(run("kill -9 $$").reason, "ended by signal 9");
}

TEST(ShellCommand, IsEndedWithAllItsChildrenAfterItsTime) {
  Nanos start = real_now();
  TempFolder folder;
  CommandResult result =
      run("(sleep 300; echo late >'" + (folder / "late") + "') & sleep 300", kSecond / 2);
  EXPECT_FALSE(result.ok);
  EXPECT_NE(result.reason.find("time limit"), std::string::npos) << result.reason;
  EXPECT_LT(real_now() - start, 60 * kSecond);
  EXPECT_NE(run_program({"pgrep", "-f", folder / "late"}).exit, 0) << "a child is left";
}

TEST(ShellCommand, StopsWhenAsked) {
  Nanos start = real_now();
  EXPECT_EQ(run("sleep 300", kMinute, [] { return true; }).reason, "stopped");
  EXPECT_LT(real_now() - start, 60 * kSecond);
}

TEST(ShellCommand, DoesNotWaitForWhatItLeavesBehind) {
  Nanos start = real_now();
  EXPECT_TRUE(run("sleep 20 & echo started").ok);
  EXPECT_EQ(lines, std::vector<std::string>{"started"});
  EXPECT_LT(real_now() - start, 15 * kSecond);
}

TEST(InTheTerminal, AProgramIsGivenItsFolderAndEnvironment) {
  TempFolder folder;
  auto run = [&](const std::string& line) {
    return run_in_terminal({"/bin/sh", {"sh", "-c", line}, {{"MADE_UP", "yes"}}, folder.path()});
  };
  EXPECT_EQ(run("test \"$MADE_UP\" = yes && test \"$PWD\" = '" + folder.path() + "'"), 0);
  EXPECT_EQ(run("exit 7"), 7);
  EXPECT_EQ(run("kill -TERM $$"), 128 + 15);
  EXPECT_EQ(run_in_terminal({folder / "nothing", {"nothing"}, {}, ""}), 127);
}

}  // namespace
}  // namespace kestrum::test
