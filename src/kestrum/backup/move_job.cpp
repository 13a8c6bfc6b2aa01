#include "kestrum/backup/move_job.h"

#include "kestrum/base/error.h"
#include "kestrum/machine/job_lock.h"

namespace kestrum {
namespace {

void add_copied(CopyJobResult& result, CopyJobResult&& more) {
  result.copy.copied.insert(result.copy.copied.end(), more.copy.copied.begin(),
                            more.copy.copied.end());
  result.copy.bytes += more.copy.bytes;
  result.copy.problems = std::move(more.copy.problems);
}

}  // namespace

MoveJobResult move_job(const MachineState& machine, const JobStore& jobs, const Job& job,
                       CopyJobOptions options, const Clock& clock, Observer& observer) {
  options.everything = true;
  options.newest_chain = false;
  MoveJobResult result;
  if (begun_move(machine, job.name, options.place)) {
    JobLock lock(machine, job.name, "moving");
    if (auto begun = begun_move(machine, job.name, options.place)) {
      result.moved = move_shelf(jobs, std::move(*begun), options.place);
      return result;
    }
  }
  result.copy = copy_job(machine, job, options, clock, observer);
  if (!result.copy->copy.problems.empty()) return result;
  JobLock lock(machine, job.name, "moving");
  add_copied(*result.copy, copy_job(machine, job, options, clock, observer));
  if (!result.copy->copy.problems.empty()) return result;
  for (ShelfState& state : machine.shelves(job.name)) {
    if (state.record.shelf != result.copy->shelf) continue;
    result.moved = move_shelf(jobs, std::move(state), options.place);
    return result;
  }
  throw Error(ErrorKind::kFailed, "what this PC keeps about the shelf is not there any more")
      .about_job(job.name);
}

}  // namespace kestrum
