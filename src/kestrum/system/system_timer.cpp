#include "kestrum/system/system_timer.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/job/job_store.h"
#include "kestrum/system/process.h"

namespace kestrum {
namespace {

constexpr const char* kMark = "# kestrum schedule";
constexpr Nanos kCommandLimit = kMinute;

struct Output {
  CommandResult result;
  std::vector<std::string> lines;
};

Output run(const std::string& command) {
  Output output;
  output.result = run_shell_command(command, {}, kCommandLimit, {},
                                    [&](const std::string& line) { output.lines.push_back(line); });
  return output;
}

void must_run(const std::string& command) {
  Output output = run(command);
  if (output.result.ok) return;
  std::string said = output.lines.empty() ? output.result.reason : output.lines.back();
  throw Error(ErrorKind::kFailed, command + ": " + said);
}

bool have(const char* program) {
  return run(std::string("command -v ") + program + " >/dev/null").result.ok;
}

// systemd.syntax(7), systemd.unit(5): quotes, and '%' and '$' doubled.
std::string unit_word(const std::string& text) {
  std::string out = "\"";
  for (char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    if (c == '%' || c == '$') out += c;
    out += c;
  }
  return out + "\"";
}

std::string unit_folder(const TimerSetup& setup) {
  if (!setup.user_units) return "/etc/systemd/system";
  const char* config = std::getenv("XDG_CONFIG_HOME");
  const char* home = std::getenv("HOME");
  std::string base = config != nullptr && config[0] == '/'
                         ? config
                         : std::string(home == nullptr ? "" : home) + "/.config";
  return base + "/systemd/user";
}

std::string systemctl(const TimerSetup& setup) {
  return setup.user_units ? "systemctl --user" : "systemctl";
}

std::string active_unit(const TimerSetup& setup) {
  return setup.stay ? "kestrum.service" : "kestrum.timer";
}

// The value behind `key` in a unit, as unit_word wrote it; empty if there is none.
std::string word_in_unit(const std::string& unit, const std::string& key) {
  std::size_t at = unit.find("\n" + key + "\"");
  if (at == std::string::npos) return "";
  std::string word;
  for (at += key.size() + 2; at < unit.size() && unit[at] != '"'; ++at) {
    bool escaped = unit[at] == '\\' || unit[at] == '%' || unit[at] == '$';
    if (escaped && at + 1 < unit.size()) ++at;
    word += unit[at];
  }
  return word;
}

// Lines of this home's schedule end with a mark of their own.
std::string cron_mark(const TimerSetup& setup) {
  return setup.home.empty() ? kMark : std::string(kMark) + " of " + setup.home;
}

bool is_ours(const std::string& line, const TimerSetup& setup) {
  return line.ends_with(cron_mark(setup)) &&
         (setup.home.empty() || line.ends_with(" of " + setup.home));
}

void write_crontab(const std::vector<std::string>& lines) {
  std::string pattern = "/tmp/kestrum-crontab-XXXXXX";
  Fd fd(::mkostemp(pattern.data(), O_CLOEXEC));
  if (!fd) throw system_error(errno, pattern);
  std::string text;
  for (const auto& line : lines) text += line + "\n";
  write_all(fd.get(), as_bytes(text), pattern);
  fd.reset();
  Output output = run("crontab " + shell_word(pattern));
  ::unlink(pattern.c_str());
  if (!output.result.ok) {
    throw Error(ErrorKind::kFailed,
                "crontab: " + (output.lines.empty() ? output.result.reason : output.lines[0]));
  }
}

}  // namespace

std::vector<std::string> user_crontab() {
  Output output = run("crontab -l 2>/dev/null");
  return output.result.ok ? output.lines : std::vector<std::string>{};
}

std::string home_in_units(const Home& home) {
  return home.config == Home::usual().config ? "" : home.config;
}

UnitCall unit_call(const TimerSetup& setup) {
  UnitCall call;
  std::string folder = unit_folder(setup), service = folder + "/kestrum.service";
  bool there = path_exists(service) && (setup.stay || path_exists(folder + "/kestrum.timer"));
  if (!there) return call;
  std::string unit = read_file(service, 1 << 20);
  bool stays = unit.find(" run --stay ") != std::string::npos;
  if (stays != setup.stay) return call;
  call.name = active_unit(setup);
  call.program = word_in_unit(unit, "ExecStart=");
  std::string home = word_in_unit(unit, "Environment=");
  if (home.starts_with("KESTRUM_HOME=")) call.home = home.substr(13);
  return call;
}

std::string unit_state(const TimerSetup& setup) {
  Output output = run(systemctl(setup) + " is-active " + active_unit(setup) + " 2>/dev/null");
  if (output.result.ok) return "active";
  return output.lines.empty() || output.lines[0].empty() ? "unknown" : output.lines[0];
}

std::optional<TimerSystem> timer_system() {
  if (is_folder("/run/systemd/system") && have("systemctl")) return TimerSystem::kSystemd;
  if (have("crontab")) return TimerSystem::kCron;
  return std::nullopt;
}

std::string service_unit(const TimerSetup& setup) {
  std::string home =
      setup.home.empty() ? "" : "Environment=" + unit_word("KESTRUM_HOME=" + setup.home) + "\n";
  std::string text = fmt::format(
      "# written by kestrum schedule install\n"
      "[Unit]\n"
      "Description=Kestrum: {}\n\n"
      "[Service]\n"
      "Type={}\n"
      "ExecStart={} run {} --quiet\n"
      "{}"
      "# 1: done with warnings\n"
      "SuccessExitStatus=1\n"
      "KillMode=mixed\n"
      "TimeoutStopSec=60\n"
      "{}",
      setup.stay ? "backups by schedule and by change" : "backups that are due",
      setup.stay ? "notify" : "oneshot", unit_word(setup.program), setup.stay ? "--stay" : "--due",
      home,
      setup.gives_way ? "# beside 100 for others, where there is not enough for all\n"
                        "CPUWeight=10\n"
                        "IOWeight=10\n"
                      : "");
  if (setup.stay) {
    text += fmt::format("Restart=on-failure\nRestartSec=60\n\n[Install]\nWantedBy={}\n",
                        setup.user_units ? "default.target" : "multi-user.target");
  }
  return text;
}

std::string timer_unit(const TimerSetup& setup) {
  return fmt::format(
      "# written by kestrum schedule install\n"
      "[Unit]\n"
      "Description=Kestrum looks what is due\n\n"
      "[Timer]\n"
      "OnCalendar=*:0/{}\n"
      "Persistent=true\n"
      "AccuracySec=30s\n\n"
      "[Install]\n"
      "WantedBy=timers.target\n",
      setup.every_minutes);
}

std::string crontab_line(const TimerSetup& setup) {
  std::string command = setup.home.empty() ? "" : "KESTRUM_HOME=" + shell_word(setup.home) + " ";
  command += shell_word(setup.program) + " run --due --quiet >/dev/null";
  std::string escaped;  // crontab(5): an unescaped '%' ends the command
  for (char c : command) escaped += c == '%' ? std::string("\\%") : std::string(1, c);
  std::string minutes = setup.every_minutes == 1 ? "*" : fmt::format("*/{}", setup.every_minutes);
  return fmt::format("{} * * * * {} {}\n", minutes, escaped, cron_mark(setup));
}

TimerState install_timer(TimerSystem system, const TimerSetup& setup) {
  if (system == TimerSystem::kCron) {
    std::vector<std::string> lines = user_crontab();
    std::erase_if(lines, [&](const std::string& line) { return is_ours(line, setup); });
    std::string line = crontab_line(setup);
    lines.push_back(line.substr(0, line.size() - 1));
    write_crontab(lines);
    return show_timer(system, setup);
  }
  std::string folder = unit_folder(setup);
  make_folders(folder);
  TimerSetup other = setup;
  other.stay = !setup.stay;
  run(systemctl(other) + " disable --now " + active_unit(other));
  write_file(folder + "/kestrum.service", service_unit(setup), 0644);
  if (setup.stay) {
    ::unlink((folder + "/kestrum.timer").c_str());
  } else {
    write_file(folder + "/kestrum.timer", timer_unit(setup), 0644);
  }
  must_run(systemctl(setup) + " daemon-reload");
  must_run(systemctl(setup) + " enable --now " + active_unit(setup));
  return show_timer(system, setup);
}

TimerState remove_timer(TimerSystem system, const TimerSetup& setup) {
  if (system == TimerSystem::kCron) {
    std::vector<std::string> lines = user_crontab();
    if (std::erase_if(lines, [&](const std::string& line) { return is_ours(line, setup); }) > 0) {
      write_crontab(lines);
    }
    return show_timer(system, setup);
  }
  std::string folder = unit_folder(setup);
  run(systemctl(setup) + " disable --now kestrum.timer kestrum.service");
  ::unlink((folder + "/kestrum.timer").c_str());
  ::unlink((folder + "/kestrum.service").c_str());
  run(systemctl(setup) + " daemon-reload");
  return show_timer(system, setup);
}

TimerState show_timer(TimerSystem system, const TimerSetup& setup) {
  TimerState state{system, false, {}};
  if (system == TimerSystem::kCron) {
    for (const auto& line : user_crontab()) {
      if (is_ours(line, setup)) state.files.push_back(line);
    }
  } else {
    for (const char* name : {"kestrum.timer", "kestrum.service"}) {
      std::string path = unit_folder(setup) + "/" + name;
      if (path_exists(path)) state.files.push_back(path);
    }
  }
  state.installed = !state.files.empty();
  return state;
}

}  // namespace kestrum
