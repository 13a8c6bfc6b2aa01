// Runs that nobody types: what is due by the schedule, and what a change of files sets off.
#pragma once

#include <set>
#include <string>
#include <vector>

#include "args.h"
#include "context.h"
#include "kestrum/base/file.h"
#include "kestrum/system/scheduler.h"
#include "kestrum/system/tried_runs.h"

namespace kestrum::cli {

// `run --due`: runs what is due, one job after the other, then ends.
int run_due(const Context& context, const Args& args);
// `run --stay`: stays in the foreground until it is told to end.
int run_and_stay(const Context& context, const Args& args);
// `run --rehearse`: what the runs would do.
int rehearse_runs(const Context& context, const Args& args);

// Of these runs.
std::set<std::string> jobs_that_made_a_set(const std::vector<RunReport>& reports);

// Before the system powers off after runs by hand: whatever is due by now is done, by this process
// or by the one that is at it.
void finish_before_power_off(const Context& context, const Args& args,
                             const std::vector<RunReport>& reports);

// The lock that one `run --due` or `run --stay` of a home holds; nothing if another has it.
std::optional<Fd> lock_due_runs(const Context& context);

// Runs what is due, each job at most once; false if it was asked to end.
class DueRuns {
 public:
  DueRuns(const Context& context, const Args& args)
      : context_(context), args_(args), scheduler_(context.home, context.clock) {}
  // Times since `watching_since` were not missed.
  void run(Nanos watching_since);
  // The look at the schedule that ended it.
  const ScheduleLook& last_look() const { return look_; }
  Scheduler& scheduler() { return scheduler_; }
  std::vector<RunReport>& reports() { return reports_; }
  // Jobs that wait, and for what.
  const std::vector<JobNote>& waiting() const { return waiting_; }
  int exit() const { return exit_; }
  // Whether a run is due that the last run() did not start, and can start now.
  bool something_is_due();

 private:
  ScheduleLook look(Nanos watching_since) const;

  const Context& context_;
  const Args& args_;
  Scheduler scheduler_;
  ScheduleLook look_;
  std::vector<RunReport> reports_;
  std::vector<JobNote> waiting_;
  TriedRuns tried_;
  int exit_ = 0;
  Nanos watching_since_ = 0;  // of the last run()
};

}  // namespace kestrum::cli
