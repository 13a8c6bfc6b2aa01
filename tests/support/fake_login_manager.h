// A stand-in for systemd's login manager (org.freedesktop.login1(5)) on a bus of its own.
#pragma once

#include <memory>
#include <string>

#include "support/program.h"

namespace kestrum::test {

class FakeLoginManager {
 public:
  // Needs dbus-daemon; ready() says whether it works.
  FakeLoginManager();
  ~FakeLoginManager();
  bool ready() const;
  // For DBUS_SYSTEM_BUS_ADDRESS.
  const std::string& address() const;

  // What was asked for, "" if nothing was: "shutdown:sleep:idle block: why"; "poweroff".
  std::string inhibited() const;
  std::string scheduled() const;
  std::string wall_message() const;
  // Lets go of its own end of what it gave out.
  void close_own_end();
  // Whether whoever inhibits has let go too.
  bool let_go() const;

 private:
  struct Service;
  std::unique_ptr<Service> service_;
};

}  // namespace kestrum::test
