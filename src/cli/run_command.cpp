#include <fmt/format.h>

#include "command.h"
#include "due_runs.h"
#include "kestrum/access/open_shelf.h"
#include "kestrum/base/text.h"
#include "kestrum/machine/job_lock.h"
#include "mailing.h"
#include "run_job.h"

namespace kestrum::cli {
namespace {

// Of a run that was paused; false if none is.
bool go_on_with(const Context& context, const std::string& job) {
  auto running = JobLock::holder(context.machine(), job);
  if (!running || !running->paused) return false;
  JobLock::go_on(context.machine(), job);
  context.say(job + ": goes on where it was paused: kestrum status " + job);
  return true;
}

}  // namespace

int run_jobs(const Context& context, const Args& args) {
  std::vector<std::string> names = args.positional();
  int ways = !names.empty() + args.has("all") + args.has("due") + args.has("stay");
  if (ways == 0) {
    throw Error(ErrorKind::kUsage, "which job?", "kestrum run NAME... or kestrum run --all");
  }
  if (ways > 1) throw Error(ErrorKind::kUsage, "only one of NAME, --all, --due and --stay");
  RunRequest request;
  request.kind = wanted_kind(args);
  if (args.has("rehearse")) return rehearse_runs(context, args);
  if (args.has("due")) return run_due(context, args);
  if (args.has("stay")) return run_and_stay(context, args);
  if (args.has("all")) names = context.jobs().names();
  std::vector<std::optional<std::string>> places;  // nothing: the job's own choice
  for (const std::string& place : args.list("on")) places.emplace_back(place);
  if (places.empty()) places.emplace_back();
  request.reread = args.has("reread");
  request.no_verify = args.has("no-verify");
  request.accept_empty = args.has("accept-empty");
  // A name that is wrong is told before any job runs.
  for (const auto& name : names) {
    if (args.has("all")) continue;
    Job job = context.jobs().load(name);
    for (const auto& place : places) {
      if (place) check_on_place(job, *place);
    }
  }
  Json runs = Json::array(), resumed = Json::array();
  std::vector<RunReport> reports;
  int exit = 0;
  bool several = names.size() * places.size() > 1;
  auto run_on = [&](const std::string& name, const std::optional<std::string>& place) {
    int code = 0;
    try {
      request.job = name;
      request.on_place = place;
      reports.push_back(run_job(context, args, request));
      runs.push_back(reports.back().to_json());
      code = reports.back().exit;
    } catch (const Error& error) {
      if (!several) throw;
      context.tell(printable(error.message()));
      code = error.exit_code();
    }
    exit = worse_exit(exit, code);
    if (several) context.say();
  };
  for (const auto& name : names) {
    if (go_on_with(context, name)) {
      resumed.push_back(name);
      continue;
    }
    for (const auto& place : places) {
      if (!stop_requested()) run_on(name, place);
    }
    if (stop_requested()) break;
  }
  if (context.json) context.print_json({{"runs", runs}, {"resumed", resumed}});
  mail_about(context, reports, names);
  finish_before_power_off(context, args, reports);
  power_off_after(context, reports);
  return exit;
}

}  // namespace kestrum::cli
