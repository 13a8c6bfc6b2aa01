// Starting other programs: the one place that does.
#pragma once

#include <functional>
#include <map>
#include <string>
#include <string_view>
#include <vector>

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
CommandResult run_shell_command(const std::string& command,
                                const std::map<std::string, std::string>& environment, Nanos limit,
                                const StopRequest& stop,
                                const std::function<void(const std::string&)>& line);

// A program of the system that makes something out of what it is given.
struct Filter {
  std::vector<std::string> command;  // its name, looked for in PATH, and its arguments
  std::string_view input;            // for its standard input
  Nanos limit = 30 * kSecond;        // it is killed after
};
struct FilterResult {
  bool ok = false;
  std::string reason;  // "exit code 3: line 7: undefined variable"; empty if ok
  std::string output;
};
// Never throws; at most 64 MiB of output are taken.
FilterResult run_filter(const Filter& filter);

// A program that has the terminal to itself until it ends.
struct TerminalProgram {
  std::string file;                                // absolute
  std::vector<std::string> arguments;              // with its name in front
  std::map<std::string, std::string> environment;  // added to this process's own
  std::string folder;                              // absolute; empty: this process's own
};

// Returns its exit code: 127 if it could not be started, 128 and the signal's number if one ended
// it. Throws Error(kFailed) if no process can be had.
int run_in_terminal(const TerminalProgram& program);

}  // namespace kestrum
