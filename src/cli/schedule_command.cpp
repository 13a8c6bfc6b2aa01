#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>

#include "command.h"
#include "kestrum/base/text.h"
#include "kestrum/job/job_file.h"
#include "kestrum/system/due_caller.h"
#include "kestrum/system/scheduler.h"
#include "kestrum/system/system_timer.h"
#include "unattended_words.h"

namespace kestrum::cli {
namespace {

TimerSystem system_wanted(const Args& args) {
  if (auto with = args.get("with")) {
    if (*with == "systemd") return TimerSystem::kSystemd;
    if (*with == "cron") return TimerSystem::kCron;
    throw Error(ErrorKind::kUsage,
                "--with: \"" + printable(*with) + "\" is neither systemd nor cron");
  }
  auto system = timer_system();
  if (!system) {
    throw Error(ErrorKind::kFailed,
                "neither systemd nor crontab is here to start kestrum run --due",
                "install cron, or call kestrum run --due every few minutes some other way");
  }
  return *system;
}

TimerSetup setup_from(const Context& context, const Args& args) {
  TimerSetup setup;
  setup.program = std::filesystem::read_symlink("/proc/self/exe").string();
  setup.home = home_in_units(context.home);
  setup.user_units = ::geteuid() != 0 || args.has("user");
  if (auto every = args.number("every", 1, 30)) setup.every_minutes = *every;
  setup.gives_way = true;
  for (const auto& name : context.jobs().names()) {
    ParsedJob parsed = context.jobs().parse(name);
    setup.gives_way &= parsed.job.low_priority;
    setup.stay |= std::any_of(parsed.job.when.begin(), parsed.job.when.end(),
                              [](const Phrase& phrase) { return !phrase.timed(); });
  }
  return setup;
}

const char* system_name(TimerSystem system) {
  return system == TimerSystem::kSystemd ? "systemd" : "cron";
}

// `caller` says whether what is installed works; nothing where that is not asked.
void print_state(const Context& context, const TimerState& state,
                 const std::optional<DueCaller>& caller, const std::string& first_line) {
  if (context.json) {
    bool asked = caller && caller->state != DueCaller::State::kUnknown;
    context.print_json(
        {{"with", system_name(state.system)},
         {"installed", state.installed},
         {"works", asked ? Json(caller->state == DueCaller::State::kWorks) : Json()},
         {"problem", !caller || caller->problem.empty() ? Json() : Json(caller->problem)},
         {state.system == TimerSystem::kCron ? "lines" : "files", state.files}});
    return;
  }
  context.say(first_line);
  for (const auto& file : state.files) context.say("  " + printable(file));
}

}  // namespace

int schedule_install(const Context& context, const Args& args) {
  args.expect(0, 0, "kestrum schedule install");
  TimerSystem system = system_wanted(args);
  TimerSetup setup = setup_from(context, args);
  TimerState state = install_timer(system, setup);
  DueCaller caller = find_due_caller(context.home);
  bool works = caller.state == DueCaller::State::kWorks;
  bool stays = setup.stay && system == TimerSystem::kSystemd;
  print_state(
      context, state, caller,
      !works ? "It is written, but jobs do not run by themselves yet: " + caller.problem
      : stays
          ? "Jobs run by themselves now: kestrum run --stay is a service"
          : fmt::format("Jobs run by themselves now: {} calls kestrum run --due every {}",
                        system_name(system),
                        setup.every_minutes == 1 ? "minute"
                                                 : fmt::format("{} minutes", setup.every_minutes)));
  if (!works) {
    if (!context.json) context.say("next: " + caller.mend);
    return 1;
  }
  std::vector<std::string> lacking = all_unattended_problems(context);
  for (const std::string& line : lacking) context.tell("at that time, tried just now: " + line);
  if (context.json) return lacking.empty() ? 0 : 1;
  if (setup.stay && system == TimerSystem::kCron) {
    context.say(
        "note: jobs scheduled \"when files change\" need kestrum run --stay as well, which cron "
        "does not keep up");
  }
  if (system == TimerSystem::kSystemd && setup.user_units) {
    context.say(
        "note: your own timers run while you are logged in; to run always: loginctl enable-linger");
  }
  context.say("next: kestrum agenda");
  return lacking.empty() ? 0 : 1;
}

int schedule_show(const Context& context, const Args& args) {
  args.expect(0, 0, "kestrum schedule show");
  TimerState state = show_timer(system_wanted(args), setup_from(context, args));
  DueCaller caller = find_due_caller(context.home);
  bool works = caller.state == DueCaller::State::kWorks;
  print_state(context, state, caller,
              works && state.installed
                  ? fmt::format("Jobs run by themselves, by {}", system_name(state.system))
              : works ? "Jobs run by themselves, by something that was set up otherwise"
                      : "Jobs do not run by themselves: " + caller.problem);
  if (!works && !context.json) context.say("next: " + caller.mend);
  return works || caller.state == DueCaller::State::kNone ? 0 : 1;
}

int schedule_remove(const Context& context, const Args& args) {
  args.expect(0, 0, "kestrum schedule remove");
  TimerState state = remove_timer(system_wanted(args), setup_from(context, args));
  print_state(context, state, std::nullopt,
              "Jobs do not run by themselves any more; kestrum run NAME still does");
  return 0;
}

}  // namespace kestrum::cli
