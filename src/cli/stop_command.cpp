#include <fmt/format.h>
#include <unistd.h>

#include "command.h"
#include "kestrum/machine/job_lock.h"

namespace kestrum::cli {
namespace {

constexpr int kPatience = 300;                 // looks
constexpr useconds_t kBetweenLooks = 100'000;  // microseconds

}  // namespace

int stop_run(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum stop NAME [--pause]");
  const std::string& name = args.positional()[0];
  context.jobs().load(name);
  MachineState machine = context.machine();
  auto running = JobLock::holder(machine, name);
  if (!running) {
    if (context.json) context.print_json({{"job", name}, {"stopped", false}});
    context.say(name + " is not running");
    return 0;
  }
  if (args.has("pause")) {
    JobLock::pause(machine, name);
    if (context.json) context.print_json({{"job", name}, {"stopped", false}, {"paused", true}});
    context.say(
        name + ": paused within a second. It keeps its place and its disk; to go on: kestrum run " +
        name);
    return 0;
  }
  JobLock::ask_to_stop(machine, name);
  bool ended = false;
  for (int look = 0; look < kPatience && !ended && !stop_requested(); ++look) {
    ::usleep(kBetweenLooks);
    auto holder = JobLock::holder(machine, name);
    ended = !holder || holder->since != running->since;
  }
  if (!ended) {
    throw Error(ErrorKind::kBusy,
                fmt::format("{} was asked to stop and has not ended yet (process {})", name,
                            running->process),
                "look again with kestrum status " + name)
        .about_job(name);
  }
  if (context.json) context.print_json({{"job", name}, {"stopped", true}});
  context.say(name + ": stopped. What it had begun is not a set; earlier sets are as they were");
  context.say("next: kestrum run " + name);
  return 0;
}

}  // namespace kestrum::cli
