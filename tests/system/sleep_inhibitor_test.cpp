// What is asked of systemd's login manager, by a stand-in for it.
#include <gtest/gtest.h>

#include <cstdlib>

#include "kestrum/base/error.h"
#include "kestrum/system/power.h"
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

}  // namespace
}  // namespace kestrum::test
