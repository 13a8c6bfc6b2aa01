#include "kestrum/inspect/forecast.h"

#include <algorithm>

#include "kestrum/access/find_shelf.h"
#include "kestrum/access/next_disk.h"
#include "kestrum/access/open_place.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/backup/continuation.h"
#include "kestrum/backup/prune.h"
#include "kestrum/base/file.h"
#include "kestrum/machine/job_lock.h"
#include "kestrum/machine/own_folders.h"

namespace kestrum {
namespace {

// This machine's index of the job's shelf, or an empty one in memory. With several shelves the one
// that `open` is, otherwise the one seen last.
std::unique_ptr<Index> index_of(const MachineState& machine, const Job& job,
                                const std::optional<OpenShelf>& open) {
  std::string state_path;
  if (open && open->state) {
    state_path = open->state->index_path();
  } else {
    Nanos seen = -1;
    for (const ShelfState& state : machine.shelves(job.name)) {
      if (state.record.last_seen <= seen) continue;
      seen = state.record.last_seen;
      state_path = state.index_path();
    }
  }
  return std::make_unique<Index>(state_path.empty() || !path_exists(state_path) ? ":memory:"
                                                                                : state_path);
}

DisksToCome disks_to_come(const Job& job, const OpenShelf& open, const Forecast& forecast) {
  const ShelfRecord& record = open.state->record;
  DisksToCome disks;
  disks.on = base_name(record.place);
  disks.size = forecast.room->total;
  disks.more = disks_to_fill(forecast.needed, forecast.room->free, disks.size, job.part_size);
  disks.plan = disks_to_fill(forecast.plan.middle.outlook.most_held, 0, disks.size, job.part_size);
  for (const std::string& place : job.places) {
    auto waits = waiting_disk(job, record, place);
    auto room = waits ? open_place(*waits)->room() : std::nullopt;
    if (room) disks.waiting.push_back({base_name(place), room->free});
  }
  return disks;
}

}  // namespace

std::uint64_t disks_to_fill(std::uint64_t bytes, std::uint64_t free, std::uint64_t size,
                            std::uint64_t part_size) {
  auto usable = [&](std::uint64_t room) { return room > part_size ? room - part_size : 0; };
  // What needs no second disk may fill the first one up.
  if (bytes <= free) return 0;
  std::uint64_t rest = bytes - std::min(bytes, usable(free));
  std::uint64_t each = std::max<std::uint64_t>(1, usable(size));
  return rest / each + (rest % each > 0 ? 1 : 0);
}

std::uint64_t Forecast::free_on_waiting() const {
  std::uint64_t free = 0;
  if (disks) {
    for (const DisksToCome::Waiting& disk : disks->waiting) free += disk.free;
  }
  return free;
}

Forecast make_forecast(const MachineState& machine, const Job& job, const ForecastOptions& options,
                       const Clock& clock, Observer& observer) {
  Forecast result;
  JobLock lock(machine, job.name, "working out a forecast");
  std::optional<OpenShelf> open;
  try {
    open.emplace(find_shelf_to_write(machine, job, options.on_place));
    result.shelf_path = open->path;
    result.room = open->place->room();
  } catch (const Error& error) {
    if (!error.worth_waiting()) throw;
    result.away = error.message();
  }
  std::unique_ptr<Index> index = index_of(machine, job, open);
  PlanInput input;
  if (open) {
    input = plan_input(*open, *index);
    if (!index_matches(open->shelf, *index)) {
      input.must_be_full = "the index of this PC does not match the shelf";
    }
  } else {
    for (const IndexedSet& set : index->sets()) {
      input.sets.push_back({set.set, set.kind, set.based_on, set.started, true});
    }
  }
  input.wanted = options.kind;
  input.now = clock.now();
  RunPlan plan = plan_run(job, *index, std::move(input));
  result.next = plan.next;
  result.fresh_folders = plan.roots.fresh;
  Selection selection(job.rules, own_folders(machine, result.shelf_path));
  result.changes = expected_changes(
      plan, selection, *index,
      {clock.now(), SuspicionLimits{job.suspect_percent, false}, options.visit, options.stop},
      observer);
  result.estimate = estimate_run(machine, job, result.changes, options.sample);
  if (options.sample) sample_fresh_files(job, result.changes, result.estimate);
  result.needed = result.estimate.stored;
  if (!open) return result;
  BegunSet wanted{plan.next.kind, plan.next.based_on, "", 0, "", {}};
  wanted.packing = packing_word({job.level, open->shelf.label().recipient}, job.part_size);
  if (auto kept = likely_continuation(*open, *index, wanted)) {
    result.kept_parts = kept->parts.size();
    result.kept_bytes = kept->bytes();
    result.needed -= std::min(result.needed, result.kept_bytes);
  }
  Nanos now = clock.now();
  if (prunes_by_itself(job.when_full)) {
    // A run prunes first only if it is short of room.
    KeepInput keep = keep_input(*open, &*index, job, now, usual_interval(machine, job, now));
    keep.base_in_use = plan.next.based_on;
    if (pruning_blocked(keep)) result.no_pruning = explain_kept(keep);
    if (result.room && result.needed > result.room->free) {
      result.kept_why = explain_kept(keep);
      for (const Verdict& verdict : decide_keep(keep)) {
        if (verdict.goes) result.freed_before += open->shelf.find(verdict.id)->seal.totals.stored;
      }
    }
  } else {
    bool goes_on = job.when_full == WhenFull::kAsk;
    result.kept_why = std::string("nothing is removed by itself (\"when_full = ") +
                      (goes_on ? "ask\")" : "stop\")");
    result.no_pruning = result.kept_why;
  }
  result.plan = job_outlook(machine, job, &*open, &*index,
                            {plan.next, result.needed, result.estimate, &result.changes,
                             result.room ? std::optional(result.room->free) : std::nullopt, now});
  if (job.when_full == WhenFull::kAsk && result.room) {
    result.disks = disks_to_come(job, *open, result);
  }
  return result;
}

ExpectedChanges survey(const MachineState& machine, const Job& job, Nanos now,
                       const StopRequest& stop, Observer& observer) {
  Index nothing(":memory:");
  PlanInput input;
  input.now = now;
  RunPlan plan = plan_run(job, nothing, std::move(input));
  Selection selection(job.rules, own_folders(machine, ""));
  return expected_changes(plan, selection, nothing, {now, {}, {}, stop}, observer);
}

}  // namespace kestrum
