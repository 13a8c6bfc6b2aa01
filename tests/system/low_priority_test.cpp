// Commands with a time limit, batteries, priorities, rates.
#include <gtest/gtest.h>
#include <sys/resource.h>

#include <thread>

#include "kestrum/base/error.h"
#include "kestrum/place/throttled_place.h"
#include "kestrum/system/power.h"
#include "kestrum/system/process.h"
#include "support/program.h"

namespace kestrum {
namespace {

using namespace test;

std::vector<std::string> lines;
CommandResult run(const std::string& command, Nanos limit = 10 * kSecond, StopRequest stop = {}) {
  lines.clear();
  return run_shell_command(command, {{"KESTRUM_JOB", "front-desk"}}, limit, stop,
                           [](const std::string& line) { lines.push_back(line); });
}

TEST(JobCommand, GivesItsLinesAndItsEnvironment) {
  EXPECT_TRUE(run("echo one; echo two >&2; echo \"$KESTRUM_JOB\"; printf last").ok);
  EXPECT_EQ(lines, (std::vector<std::string>{"one", "two", "front-desk", "last"}));
}

TEST(JobCommand, SaysHowItFailed) {
  EXPECT_EQ(run("exit 3").reason, "exit code 3");
  EXPECT_EQ(run("no-such-program-here").reason, "exit code 127");
  EXPECT_EQ(run("kill -9 $$").reason, "ended by signal 9");
}

TEST(JobCommand, IsEndedWithAllItsChildrenAfterItsTime) {
  Nanos start = real_now();
  TempFolder folder;
  CommandResult result =
      run("(sleep 300; echo late >'" + (folder / "late") + "') & sleep 300", kSecond / 2);
  EXPECT_FALSE(result.ok);
  EXPECT_NE(result.reason.find("time limit"), std::string::npos) << result.reason;
  EXPECT_LT(real_now() - start, 60 * kSecond);
  EXPECT_NE(run_program({"pgrep", "-f", folder / "late"}).exit, 0) << "a child is left";
}

TEST(JobCommand, StopsWhenAsked) {
  Nanos start = real_now();
  EXPECT_EQ(run("sleep 300", kMinute, [] { return true; }).reason, "stopped");
  EXPECT_LT(real_now() - start, 60 * kSecond);
}

TEST(JobCommand, DoesNotWaitForWhatItLeavesBehind) {
  Nanos start = real_now();
  EXPECT_TRUE(run("sleep 20 & echo started").ok);
  EXPECT_EQ(lines, std::vector<std::string>{"started"});
  EXPECT_LT(real_now() - start, 15 * kSecond);
}

struct Supply {
  const char *name, *type, *attribute, *value, *scope;
};
bool battery(const std::vector<Supply>& supplies) {
  TempFolder folder;
  for (const Supply& s : supplies) {
    std::string path = folder / s.name;
    ::mkdir(path.c_str(), 0755);
    put_file(path + "/type", std::string(s.type) + "\n");
    put_file(path + "/" + s.attribute, std::string(s.value) + "\n");
    put_file(path + "/scope", std::string(s.scope) + "\n");
  }
  return on_battery(folder.path());
}

TEST(Battery, IsReadFromThePowerSupplies) {
  EXPECT_FALSE(battery({}));
  EXPECT_TRUE(battery({{"AC", "Mains", "online", "0", "System"},
                       {"BAT0", "Battery", "status", "Discharging", "System"}}));
  EXPECT_FALSE(battery({{"AC", "Mains", "online", "1", "System"},
                        {"BAT0", "Battery", "status", "Discharging", "System"}}));
  EXPECT_FALSE(battery({{"AC", "Mains", "online", "1", "System"},
                        {"BAT0", "Battery", "status", "Charging", "System"}}));
  EXPECT_FALSE(battery({{"hid-mouse", "Battery", "status", "Discharging", "Device"}}));
  EXPECT_FALSE(on_battery("/no/such/folder"));
}

TEST(Priority, IsLoweredForOneThreadAlone) {
  int low = 0, before = ::getpriority(PRIO_PROCESS, 0);
  std::thread([&] {
    lower_priority();
    low = ::getpriority(PRIO_PROCESS, 0);
  }).join();
  EXPECT_GE(low, 10);
  EXPECT_EQ(::getpriority(PRIO_PROCESS, 0), before);
  EXPECT_GE(worker_threads(true), 1u);
  EXPECT_LE(worker_threads(true), worker_threads(false));
}

TEST(Throttle, NeverPassesMoreThanItsRate) {
  for (std::uint64_t rate : {2'000'000u, 20'000'000u}) {
    TempFolder folder;
    LocalPlace below(folder.path());
    ThrottledPlace place(below, rate, {});
    Bytes block(rate / 3);
    Nanos start = real_now();
    auto file = place.create("file");
    for (int i = 0; i < 5; ++i) file->write(block);
    double seconds = static_cast<double>(real_now() - start) / kSecond;
    double measured = static_cast<double>(5 * block.size()) / seconds;
    EXPECT_LT(measured, 1.1 * static_cast<double>(rate));
    EXPECT_GT(measured, 0.4 * static_cast<double>(rate))
        << "a busy machine is slower, but not so much";
  }
}

TEST(Throttle, LetsWhatIsUnderWayThroughWhenItIsToStop) {
  TempFolder folder;
  LocalPlace below(folder.path());
  ThrottledPlace place(below, 10'000, [] { return true; });
  Nanos start = steady_now();
  place.create("file")->write(Bytes(1'000'000));  // 100 seconds at that rate
  EXPECT_LT(steady_now() - start, 5 * kSecond);
  EXPECT_EQ(below.open("file", false)->size(), 1'000'000u);
}

}  // namespace
}  // namespace kestrum
