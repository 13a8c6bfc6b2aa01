// What calls `kestrum run --due` every few minutes: a systemd timer, or a line in the crontab.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/job/job_store.h"

namespace kestrum {

enum class TimerSystem { kSystemd, kCron };

// What this machine has; nothing if neither is there.
std::optional<TimerSystem> timer_system();

struct TimerSetup {
  std::string program;  // absolute
  std::string home;     // of KESTRUM_HOME; empty for the usual folders
  unsigned every_minutes = 5;
  bool user_units = false;  // systemd: the user's own manager
  bool gives_way = false;   // every job is of low priority: other services come first
  bool stay = false;        // a service that stays, for jobs that follow changes
};

// The texts that are written; each ends with a newline.
std::string service_unit(const TimerSetup& setup);
std::string timer_unit(const TimerSetup& setup);
std::string crontab_line(const TimerSetup& setup);

// The folder that KESTRUM_HOME names in what is written; empty for the usual folders.
std::string home_in_units(const Home& home);

// What a unit that is there calls; all empty if it is not.
struct UnitCall {
  std::string name;  // "kestrum.timer"
  std::string program, home;
};
UnitCall unit_call(const TimerSetup& setup);
// "active", "inactive", "failed", ...; "unknown" if systemd cannot be asked.
std::string unit_state(const TimerSetup& setup);
// The lines of this user's crontab.
std::vector<std::string> user_crontab();

struct TimerState {
  TimerSystem system = TimerSystem::kSystemd;
  bool installed = false;
  std::vector<std::string> files;  // written; for cron the lines of the crontab
};

// Each throws Error(kFailed) with what systemctl or crontab said.
TimerState install_timer(TimerSystem system, const TimerSetup& setup);
TimerState remove_timer(TimerSystem system, const TimerSetup& setup);
TimerState show_timer(TimerSystem system, const TimerSetup& setup);

}  // namespace kestrum
