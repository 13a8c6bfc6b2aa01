// The sleep inhibitor against a stand-in for systemd's login manager, on a bus of its own.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <systemd/sd-bus.h>
#include <unistd.h>

#include <atomic>
#include <cstdlib>
#include <thread>

#include "kestrum/system/power.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

std::atomic<int> asked = 0;
std::string what, why;
int pipe_ends[2];

int inhibit(sd_bus_message* call, void*, sd_bus_error*) {
  const char *w = nullptr, *who = nullptr, *reason = nullptr, *mode = nullptr;
  if (sd_bus_message_read(call, "ssss", &w, &who, &reason, &mode) < 0) return -EINVAL;
  what = w;
  why = reason;
  ++asked;
  return sd_bus_reply_method_return(call, "h", pipe_ends[1]);
}

const sd_bus_vtable kManager[] = {
    SD_BUS_VTABLE_START(0),
    SD_BUS_METHOD("Inhibit", "ssss", "h", inhibit, SD_BUS_VTABLE_UNPRIVILEGED), SD_BUS_VTABLE_END};

TEST(SleepInhibitorOnABus, HoldsWhatTheLoginManagerGivesAndLetsItGo) {
  if (!have_program("dbus-daemon")) GTEST_SKIP() << "no dbus-daemon here";
  TempFolder folder;
  std::string address = "unix:path=" + (folder / "bus");
  put_file(folder / "bus.conf",
           "<busconfig><type>session</type><listen>" + address +
               "</listen><policy context='default'><allow send_destination='*' eavesdrop='true'/>"
               "<allow eavesdrop='true'/><allow own='*'/></policy></busconfig>");
  Background daemon({"dbus-daemon", "--nofork", "--config-file=" + (folder / "bus.conf")}, {});
  ASSERT_TRUE(eventually([&] { return ::access((folder / "bus").c_str(), F_OK) == 0; }))
      << daemon.output();
  const char* before = std::getenv("DBUS_SYSTEM_BUS_ADDRESS");
  std::string kept = before == nullptr ? "" : before;
  ::setenv("DBUS_SYSTEM_BUS_ADDRESS", address.c_str(), 1);

  ASSERT_EQ(::pipe2(pipe_ends, O_CLOEXEC), 0);
  sd_bus* bus = nullptr;
  ASSERT_GE(sd_bus_open_system(&bus), 0);
  ASSERT_GE(sd_bus_add_object_vtable(bus, nullptr, "/org/freedesktop/login1",
                                     "org.freedesktop.login1.Manager", kManager, nullptr),
            0);
  ASSERT_GE(sd_bus_request_name(bus, "org.freedesktop.login1", 0), 0) << daemon.output();
  std::atomic<bool> end = false;
  std::thread manager([&] {
    while (!end) {
      if (sd_bus_process(bus, nullptr) == 0) sd_bus_wait(bus, 100'000);
    }
  });
  {
    SleepInhibitor awake("backing up front-desk");
    EXPECT_TRUE(awake.active());
    EXPECT_EQ(asked, 1);
    EXPECT_EQ(what, "shutdown:sleep:idle");
    EXPECT_EQ(why, "backing up front-desk");
    ::close(pipe_ends[1]);
    // As long as it is held, the other end of the pipe stays open.
    ::fcntl(pipe_ends[0], F_SETFL, O_NONBLOCK);
    char c;
    EXPECT_EQ(::read(pipe_ends[0], &c, 1), -1);
  }
  char c;
  EXPECT_TRUE(eventually([&] { return ::read(pipe_ends[0], &c, 1) == 0; })) << "let go";
  end = true;
  manager.join();
  sd_bus_flush_close_unref(bus);
  ::close(pipe_ends[0]);
  kept.empty() ? ::unsetenv("DBUS_SYSTEM_BUS_ADDRESS")
               : ::setenv("DBUS_SYSTEM_BUS_ADDRESS", kept.c_str(), 1);
}

TEST(SleepInhibitorWithoutABus, DoesNoHarm) {
  ::setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path=/no/such/bus", 1);
  SleepInhibitor awake("backing up");
  EXPECT_FALSE(awake.active());
  ::unsetenv("DBUS_SYSTEM_BUS_ADDRESS");
}

}  // namespace
}  // namespace kestrum::test
