#include "due_runs.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <set>

#include "due_checks.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/system/due_caller.h"
#include "mailing.h"
#include "run_job.h"

namespace kestrum::cli {
namespace {

// What a run that was not started by hand means for the exit code: what is waited for is no error.
int exit_of(const RunReport& report) {
  bool waits = report.waits || report.outcome == Outcome::kSkipped;
  return waits ? 0 : report.exit;
}

}  // namespace

void DueRuns::run(Nanos watching_since) {
  std::set<std::string> told;
  tried_.clear();
  watching_since_ = watching_since;
  waiting_.clear();
  while (!stop_requested()) {
    look_ = look(watching_since);
    for (const JobNote& note : look_.unusable) {
      if (told.insert(note.job).second) context_.tell(printable(note.text));
      exit_ = worse_exit(exit_, 2);
    }
    // A run takes its time: whatever falls due meanwhile is found by the next look.
    auto next = std::find_if(look_.due.begin(), look_.due.end(),
                             [&](const DueJob& due) { return !tried_.has(due.job.name); });
    if (next == look_.due.end()) return;
    tried_.began(*next);
    if (auto reason = scheduler_.waits_for(next->job)) {
      tried_.waits(*next);
      if (scheduler_.waits(next->job.name, *reason)) {
        record_skipped(context_, next->job, "waits: " + *reason, 0);
      }
      waiting_.push_back({next->job.name, *reason});
      continue;
    }
    RunRequest request;
    request.job = next->job.name;
    request.trigger = next->why;
    request.by_hand = false;
    try {
      reports_.push_back(run_job(context_, args_, request));
      exit_ = worse_exit(exit_, exit_of(reports_.back()));
    } catch (const Error& error) {
      context_.tell(printable(error.message()));
      exit_ = worse_exit(exit_, error.exit_code());
    }
  }
  exit_ = worse_exit(exit_, 130);
}

// A look settles what it finds: what it gave up is put on record at once, whoever asked.
ScheduleLook DueRuns::look(Nanos watching_since) const {
  ScheduleLook look = scheduler_.look(watching_since);
  for (const JobNote& note : look.let_go) {
    record_skipped(context_, context_.jobs().load(note.job), note.text, 0);
  }
  for (const JobNote& note : look.notes) context_.tell(note.job + ": " + note.text);
  return look;
}

bool DueRuns::something_is_due() {
  ScheduleLook found = look(watching_since_);
  return std::any_of(found.due.begin(), found.due.end(), [&](const DueJob& due) {
    return tried_.is_new(due) && !scheduler_.waits_for(due.job);
  });
}

std::set<std::string> jobs_that_made_a_set(const std::vector<RunReport>& reports) {
  std::set<std::string> jobs;
  for (const RunReport& report : reports) {
    if (report.set) jobs.insert(report.job);
  }
  return jobs;
}

std::optional<Fd> lock_due_runs(const Context& context) {
  std::string path = due_lock_path(context.home);
  make_folders(parent_of(path));
  Fd lock(::open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600));
  if (!lock) throw system_error(errno, path);
  if (::flock(lock.get(), LOCK_EX | LOCK_NB) != 0) return std::nullopt;
  if (::ftruncate(lock.get(), 0) != 0) throw system_error(errno, path);
  return lock;
}

namespace {

int do_what_is_due(const Context& context, DueRuns& due) {
  DueChecks checks(context, [&] { return due.something_is_due(); });
  Nanos since = context.clock.now();
  do {
    due.run(since);
  } while (!checks.run(since, jobs_that_made_a_set(due.reports())) && !stop_requested());
  mail_about(context, due.reports(), std::nullopt);
  return worse_exit(due.exit(), checks.exit());
}

// A `run --stay` has the lock as long as the PC is on, and does what is due.
bool somebody_stays(const Context& context) {
  return read_file(due_lock_path(context.home)).find(kStays) != std::string::npos;
}

}  // namespace

void finish_before_power_off(const Context& context, const Args& args,
                             const std::vector<RunReport>& reports) {
  if (!wants_power_off(context, reports)) return;
  std::optional<Fd> lock = lock_due_runs(context);
  if (!lock && somebody_stays(context)) return;
  if (!lock) context.tell("This PC powers off when kestrum run --due has ended.");
  while (!lock && !stop_requested()) {
    ::sleep(1);
    lock = lock_due_runs(context);
  }
  if (stop_requested()) return;
  DueRuns due(context, args);
  do_what_is_due(context, due);
}

int run_due(const Context& context, const Args& args) {
  Json runs = Json::array();
  int exit = 0;
  if (auto lock = lock_due_runs(context)) {
    DueRuns due(context, args);
    exit = do_what_is_due(context, due);
    for (const RunReport& report : due.reports()) runs.push_back(report.to_json());
    power_off_after(context, due.reports());
    if (!context.quiet) {
      for (const JobNote& note : due.waiting()) {
        context.say(note.job + " waits: " + printable(note.text));
      }
      if (due.reports().empty() && due.waiting().empty() && exit == 0) {
        auto next = due.last_look().next;
        context.say("nothing is due" + (next ? "; next at " + format_local(*next) : std::string()));
      }
    }
  } else if (context.verbose) {
    context.tell("another kestrum run --due or --stay is at work");
  }
  if (context.json) context.print_json({{"runs", runs}});
  return exit;
}

}  // namespace kestrum::cli
