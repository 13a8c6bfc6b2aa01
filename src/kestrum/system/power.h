// Priorities, battery, sleep and power off.
#pragma once

#include <string>

namespace kestrum {

// Lowers the CPU and disk priority of the calling thread and of those that it starts. It cannot be
// raised again.
void lower_priority();

// While one lives, the session of this process gives way to others, if no terminal controls it: a
// timer's or cron's. The kernel may share out time by session first (sched(7), "The autogroup
// feature"); a nice value then counts within its session alone.
class SessionGivesWay {
 public:
  SessionGivesWay();
  ~SessionGivesWay();
  SessionGivesWay(const SessionGivesWay&) = delete;
  SessionGivesWay& operator=(const SessionGivesWay&) = delete;
};

// How many threads should compress: one a processor, or, at low priority, some fewer where there
// are more than two.
unsigned worker_threads(bool low_priority);

// Whether this machine runs on its battery, by the power supplies that a folder such as
// /sys/class/power_supply lists. A machine without a battery does not.
bool on_battery(const std::string& power_supplies);
inline constexpr const char* kPowerSupplies = "/sys/class/power_supply";

// Keeps the machine from sleeping or shutting down while it lives, where systemd is asked for such
// things; does nothing elsewhere.
class SleepInhibitor {
 public:
  explicit SleepInhibitor(const std::string& why);
  ~SleepInhibitor();
  SleepInhibitor(const SleepInhibitor&) = delete;
  SleepInhibitor& operator=(const SleepInhibitor&) = delete;
  bool active() const { return fd_ >= 0; }

 private:
  int fd_ = -1;
};

// Asks systemd's login manager to power off in a minute, telling everybody who is logged in;
// `shutdown -c` cancels it. Throws Error(kFailed) if it refuses or is not there.
void ask_power_off(const std::string& why);

}  // namespace kestrum
