// Batteries and priorities, and what is asked of systemd's login manager, by a stand-in for it.
#include "kestrum/system/power.h"

#include <gtest/gtest.h>
#include <sys/resource.h>
#include <sys/stat.h>

#include <cstdlib>
#include <optional>
#include <thread>

#include "kestrum/base/error.h"
#include "support/fake_login_manager.h"

namespace kestrum::test {
namespace {

// For the time of one test, this process's system bus.
class SystemBus {
 public:
  explicit SystemBus(const std::string& address) {
    if (const char* before = std::getenv(kVariable); before != nullptr) before_ = before;
    ::setenv(kVariable, address.c_str(), 1);
  }
  ~SystemBus() {
    before_.empty() ? ::unsetenv(kVariable) : ::setenv(kVariable, before_.c_str(), 1);
  }

 private:
  static constexpr const char* kVariable = "DBUS_SYSTEM_BUS_ADDRESS";
  std::string before_;
};

class LoginManager : public testing::Test {
 protected:
  void SetUp() override {
    if (!manager.ready()) GTEST_SKIP() << "no dbus-daemon here";
    bus.emplace(manager.address());
  }
  FakeLoginManager manager;
  std::optional<SystemBus> bus;
};

TEST_F(LoginManager, KeepsThePcAwakeAsLongAsItIsAskedTo) {
  {
    SleepInhibitor awake("backing up front-desk");
    EXPECT_TRUE(awake.active());
    EXPECT_EQ(manager.inhibited(), "shutdown:sleep:idle block: backing up front-desk");
    manager.close_own_end();
    EXPECT_FALSE(manager.let_go());
  }
  EXPECT_TRUE(eventually([&] { return manager.let_go(); }));
}

TEST_F(LoginManager, IsAskedToPowerOff) {
  ask_power_off("Kestrum: front-desk is backed up");
  EXPECT_EQ(manager.scheduled(), "poweroff");
  EXPECT_EQ(manager.wall_message(), "Kestrum: front-desk is backed up");
}

TEST(WithoutALoginManager, NothingKeepsThePcAwakeAndPowerOffFails) {
  SystemBus none("unix:path=/no/such/bus");
  SleepInhibitor awake("backing up");
  EXPECT_FALSE(awake.active());
  EXPECT_THROW(ask_power_off("done"), Error);
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

}  // namespace
}  // namespace kestrum::test
