#include "kestrum/inspect/job_outlook.h"

#include <algorithm>

#include "kestrum/backup/prune.h"
#include "kestrum/machine/schedule_book.h"

namespace kestrum {
namespace {

constexpr std::size_t kMostRuns = 3000;
constexpr Nanos kBeyondPromise = 120 * kDay;
constexpr Nanos kFurthest = 12 * 365 * kDay;
// What a set that depends on another takes of a full one, where no past set tells.
constexpr std::uint64_t kDependentShare = 20;
constexpr std::size_t kPastSets = 20;

}  // namespace

OutlookInput plan_of(const MachineState& machine, const Job& job, Nanos now) {
  OutlookInput input;
  input.keep.policy = job.keep;
  input.prunes = job.when_full != WhenFull::kStop;
  input.follows_full = job.follows_full;
  input.new_full = job.new_full;
  Timetable times = timetable_of(job, machine, Zone::local());
  Nanos end = now + std::min(kFurthest, job.keep.keep_for + kBeyondPromise);
  for (Nanos at = now; at < end && input.runs.size() < kMostRuns;) {
    input.runs.push_back(at);
    if (!times.timed()) {
      at += kDay;
      continue;
    }
    auto next = times.next_after(at);
    if (!next) break;
    at = *next;
  }
  return input;
}

Outlook bare_outlook(const MachineState& machine, const Job& job, Nanos now) {
  return look_ahead(plan_of(machine, job, now));
}

JobOutlook job_outlook(const MachineState& machine, const Job& job, const OpenShelf* open,
                       Index* index, const PlannedRun& planned) {
  Nanos now = planned.now;
  OutlookInput input = plan_of(machine, job, now);
  JobOutlook result;
  if (open != nullptr) {
    input.keep = keep_input(*open, index, job, now, usual_interval(machine, job, now));
    input.highest_chain = open->state->record.newest.highest_chain;
  }
  std::uint64_t links = 0, stored = 0, counted_sets = 0;
  for (auto set = input.keep.sets.rbegin(); set != input.keep.sets.rend(); ++set) {
    if (!set->sealed) continue;
    if (set->kind == SetKind::kFull) {
      if (result.full_bytes == 0) result.full_bytes = set->stored;
    } else if (counted_sets < kPastSets) {
      ++counted_sets;
      links += set->kind == SetKind::kDifferential ? set->id.link : 1;
      stored += set->stored;
    }
  }
  if (planned.next.kind == SetKind::kFull || result.full_bytes == 0) {
    result.full_bytes = planned.bytes;
  }
  result.dependent_known = links > 0;
  result.dependent_bytes = links > 0 ? stored / links : result.full_bytes / kDependentShare;
  input.next = planned.next;
  input.next_bytes = planned.bytes;
  input.full_bytes = result.full_bytes;
  input.dependent_bytes = result.dependent_bytes;
  input.free_bytes = planned.free_bytes;
  result.last_run = input.runs.empty() ? now : input.runs.back();
  result.outlook = look_ahead(input);
  return result;
}

}  // namespace kestrum
