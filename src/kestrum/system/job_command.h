// The shell commands that a job runs before and after a run.
#pragma once

#include <functional>
#include <map>
#include <string>

#include "kestrum/base/clock.h"
#include "kestrum/base/observer.h"

namespace kestrum {

struct CommandResult {
  bool ok = false;
  std::string reason;  // "exit code 3", "killed after 10 min", ...; empty if ok
};

// Runs `command` by /bin/sh with `environment` added, in a process group of its own, and gives each
// line that it prints to `line`. Ends it, all its children too, after `limit` (nanoseconds) or when
// asked to stop: SIGTERM, a few seconds later SIGKILL.
CommandResult run_job_command(const std::string& command,
                              const std::map<std::string, std::string>& environment, Nanos limit,
                              const StopRequest& stop,
                              const std::function<void(const std::string&)>& line);

}  // namespace kestrum
