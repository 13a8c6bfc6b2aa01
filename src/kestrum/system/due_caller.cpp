#include "kestrum/system/due_caller.h"

#include <fcntl.h>
#include <signal.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <optional>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/job/job_store.h"
#include "kestrum/system/system_timer.h"

namespace kestrum {
namespace {

using CallerState = DueCaller::State;
constexpr const char* kInstall = "kestrum schedule install";
constexpr std::uint64_t kCrontabLimit = 1 << 20;

std::string small_file(const std::string& path) {
  try {
    return read_file(path, kCrontabLimit);
  } catch (const Error&) {
    return "";
  }
}

// The words of a command line as sh(1) would part them; what is between other shell syntax too.
std::vector<std::string> shell_words(const std::string& line) {
  std::vector<std::string> words;
  std::string word;
  bool any = false;
  char quote = 0;
  for (std::size_t i = 0; i < line.size(); ++i) {
    char c = line[i];
    if (quote != 0) {
      if (c == quote) {
        quote = 0;
      } else if (c == '\\' && quote == '"' && i + 1 < line.size()) {
        word += line[++i];
      } else {
        word += c;
      }
    } else if (c == '\'' || c == '"') {
      quote = c;
      any = true;
    } else if (c == '\\' && i + 1 < line.size()) {
      word += line[++i];
      any = true;
    } else if (c == ' ' || c == '\t' || c == ';' || c == '&' || c == '|') {
      if (any) words.push_back(std::move(word));
      word.clear();
      any = false;
    } else {
      word += c;
      any = true;
    }
  }
  if (any) words.push_back(std::move(word));
  return words;
}

// How a crontab's line begins: five fields, or one such as "@hourly".
std::string without_times(std::string_view line, bool system_wide) {
  std::size_t fields = (line.starts_with('@') ? 1 : 5) + (system_wide ? 1 : 0);
  for (; fields > 0; --fields) {
    std::size_t end = std::min(line.find_first_of(" \t"), line.size());
    line.remove_prefix(end);
    line.remove_prefix(std::min(line.find_first_not_of(" \t"), line.size()));
  }
  std::string command;
  for (std::size_t i = 0; i < line.size(); ++i) {
    if (line[i] == '\\' && i + 1 < line.size() && line[i + 1] == '%') continue;
    command += line[i];
  }
  return command;
}

std::string value_of(const std::string& word, std::string_view name) {
  return word.starts_with(name) ? word.substr(name.size()) : "";
}

bool can_be_run(const std::string& program) {
  if (program.find('/') != std::string::npos) {
    return !is_folder(program) && ::access(program.c_str(), X_OK) == 0;
  }
  const char* path = std::getenv("PATH");
  for (const auto& folder : split(std::string("/usr/bin:/bin:") + (path ? path : ""), ':')) {
    if (!folder.empty() && ::access((folder + "/" + program).c_str(), X_OK) == 0) return true;
  }
  return false;
}

bool serves(const std::string& called_home, const std::string& home) {
  return called_home.empty() ? home.empty() : absolute_path(called_home) == home;
}

// By the names of processes; where others' are hidden, by what the daemon says of itself.
std::optional<bool> cron_daemon_runs() {
  bool all_seen = !small_file("/proc/1/comm").empty();
  for (const auto& process : list_folder("/proc")) {
    if (process.find_first_not_of("0123456789") != std::string::npos) continue;
    std::string name(trimmed(small_file("/proc/" + process + "/comm")));
    if (name == "cron" || name == "crond" || name == "fcron") return true;
  }
  if (all_seen) return false;
  for (const char* file : {"/run/crond.pid", "/run/cron.pid"}) {
    auto process = parse_number(trimmed(small_file(file)));
    if (process && (::kill(static_cast<pid_t>(*process), 0) == 0 || errno == EPERM)) return true;
  }
  return std::nullopt;
}

DueCaller look_at_cron(const std::string& home) {
  std::vector<CronCall> calls = cron_calls(user_crontab(), false);
  std::vector<std::string> files = {"/etc/crontab"};
  if (is_folder("/etc/cron.d")) {
    for (const auto& name : list_folder("/etc/cron.d")) files.push_back("/etc/cron.d/" + name);
  }
  for (const auto& file : files) {
    for (CronCall& call : cron_calls(split(small_file(file), '\n'), true)) {
      calls.push_back(std::move(call));
    }
  }
  std::erase_if(calls, [&](const CronCall& call) { return !serves(call.home, home); });
  if (calls.empty()) return {};
  auto sound = std::find_if(calls.begin(), calls.end(),
                            [](const CronCall& call) { return can_be_run(call.program); });
  if (sound == calls.end()) {
    return {CallerState::kBroken, false,
            "the crontab calls " + calls[0].program + ", which is not there or cannot be run",
            kInstall};
  }
  auto daemon = cron_daemon_runs();
  if (!daemon) {
    return {CallerState::kUnknown, false,
            "the crontab calls kestrum run --due, but whether cron runs cannot be seen",
            "systemctl status cron"};
  }
  if (*daemon) return {CallerState::kWorks, false, "", ""};
  return {CallerState::kBroken, false,
          "the crontab calls kestrum run --due, but no cron daemon runs",
          is_folder("/run/systemd/system") ? "systemctl enable --now cron" : "service cron start"};
}

DueCaller look_at_systemd(const std::string& home) {
  bool systemd_runs = is_folder("/run/systemd/system");
  DueCaller best;
  for (bool user : {false, true}) {
    for (bool stays : {true, false}) {
      TimerSetup setup;
      setup.user_units = user;
      setup.stay = stays;
      UnitCall unit = unit_call(setup);
      if (unit.program.empty() || !serves(unit.home, home)) continue;
      DueCaller found{CallerState::kWorks, stays, "", ""};
      bool asked = systemd_runs && can_be_run(unit.program);
      std::string active = asked ? unit_state(setup) : "";
      if (!systemd_runs) {
        found = {CallerState::kBroken, false,
                 unit.name + " is installed, but this PC does not run systemd", kInstall};
      } else if (active.empty()) {
        found = {CallerState::kBroken, false,
                 unit.name + " calls " + unit.program + ", which is not there or cannot be run",
                 kInstall};
      } else if (active == "unknown") {
        found = {CallerState::kUnknown, false,
                 "systemd could not be asked whether " + unit.name + " runs", kInstall};
      } else if (active != "active") {
        found = {CallerState::kBroken, false, unit.name + " is installed, but " + active, kInstall};
      }
      if (found.state == CallerState::kWorks) return found;
      if (best.state == CallerState::kNone || best.state == CallerState::kUnknown) best = found;
    }
  }
  return best;
}

bool stays_at_work(const Home& home) {
  std::string path = due_lock_path(home);
  Fd lock(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
  if (!lock || ::flock(lock.get(), LOCK_SH | LOCK_NB) == 0) return false;
  return trimmed(small_file(path)) == kStays;
}

}  // namespace

std::string due_lock_path(const Home& home) {
  return home.state + "/locks/.due";
}

std::vector<CronCall> cron_calls(const std::vector<std::string>& lines, bool system_wide) {
  std::vector<CronCall> calls;
  std::string home_set;  // by a line of its own
  for (const std::string& raw : lines) {
    std::string line(trimmed(raw));
    if (line.empty() || line[0] == '#') continue;
    if (line.starts_with("KESTRUM_HOME")) {
      std::size_t equals = line.find('=');
      auto words = shell_words(equals == std::string::npos ? "" : line.substr(equals + 1));
      home_set = words.empty() ? "" : words[0];
      continue;
    }
    CronCall call;
    call.home = home_set;
    bool runs = false, due = false;
    std::string before;
    std::vector<std::string> words = shell_words(without_times(line, system_wide));
    for (std::size_t i = 0; i < words.size(); ++i) {
      const std::string& word = words[i];
      if (word.starts_with('#')) break;
      if (word.starts_with("KESTRUM_HOME=")) call.home = value_of(word, "KESTRUM_HOME=");
      if (word.starts_with("--home=")) call.home = value_of(word, "--home=");
      if (word == "--home" && i + 1 < words.size()) call.home = words[i + 1];
      if (word == "run" && !runs) {
        runs = true;
        call.program = before;
      }
      due |= runs && word == "--due";
      if (!word.starts_with("-") && (i == 0 || words[i - 1] != "--home")) before = word;
    }
    if (due && base_name(call.program).starts_with("kestrum")) calls.push_back(call);
  }
  return calls;
}

DueCaller find_due_caller(const Home& home) {
  try {
    if (stays_at_work(home)) return {CallerState::kWorks, true, "", ""};
    std::string named = home_in_units(home);
    DueCaller systemd = look_at_systemd(named);
    if (systemd.state == CallerState::kWorks) return systemd;
    DueCaller cron = look_at_cron(named);
    // Of two that do not work, the one that schedule install would mend.
    bool by_cron = cron.state == CallerState::kWorks || systemd.state == CallerState::kNone;
    const DueCaller& found = by_cron ? cron : systemd;
    if (found.state != CallerState::kNone) return found;
    return {CallerState::kNone, false, "nothing on this PC calls kestrum run --due", kInstall};
  } catch (const std::exception& error) {
    return {CallerState::kUnknown, false,
            std::string("what calls kestrum run --due could not be found out: ") + error.what(),
            "kestrum schedule show"};
  }
}

}  // namespace kestrum
