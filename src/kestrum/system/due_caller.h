// Whether anything on this PC calls `kestrum run --due`, without which no schedule means anything.
#pragma once

#include <string>
#include <vector>

#include "kestrum/job/job_store.h"

namespace kestrum {

struct DueCaller {
  enum class State {
    kWorks,
    kBroken,   // something is set up, and does not work
    kNone,     // nothing is set up
    kUnknown,  // it could not be found out
  };
  State state = State::kNone;
  bool stays = false;   // a `run --stay`, which follows changes of files too
  std::string problem;  // in words; empty if it works
  std::string mend;     // the command that mends it
};

// A `run --stay` at work, the timer or service of systemd, the crontabs. `home` is the one that is
// called for. Starts systemctl and crontab; throws nothing.
DueCaller find_due_caller(const Home& home);

// The lock file that `run --due` and `run --stay` hold, and what the latter writes into it.
std::string due_lock_path(const Home& home);
inline constexpr const char* kStays = "stay";

// A command of a crontab that calls `run --due`.
struct CronCall {
  std::string program;  // as it is written there
  std::string home;     // KESTRUM_HOME or --home; empty for the usual folders
};
// Those of a crontab; with `system_wide` a user stands before each command (crontab(5)).
std::vector<CronCall> cron_calls(const std::vector<std::string>& lines, bool system_wide);

}  // namespace kestrum
