// Removing the sets that no promise holds.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/engine/observer.h"
#include "kestrum/engine/open_shelf.h"
#include "kestrum/shelf/index.h"

namespace kestrum {

struct PruneOptions {
  bool rehearse = false;                 // only say what would happen
  std::optional<std::uint64_t> to_free;  // bytes that are wanted
  bool break_promises = false;           // go deeper, until what is wanted and wished for is free
  bool clock_is_right = false;           // the times of the sets are to be believed from now on
  StopRequest stop;
};

struct PrunedSet {
  SetId id;
  std::string reason;
  std::uint64_t bytes = 0;
};

struct PruneReport {
  std::vector<PrunedSet> removed, stays;
  std::vector<SetId> broken;  // of the removed, restore points that a promise held
  std::uint64_t freed = 0;    // bytes
  std::uint64_t missing = 0;  // bytes that are wanted and could not be freed
  Room room;                  // afterwards; while rehearsing, as it is
  std::string clock_doubt;    // why nothing goes by age
};

// Of a shelf whose job's lock is held. Throws Error if the disk fails; what was removed until then
// is gone in order, dependents first.
PruneReport prune_shelf(OpenShelf& open, const Job& job, Index& index, const PruneOptions& options,
                        Nanos now, Nanos interval, Observer& observer);

// Takes the lock, finds the shelf and finishes what an interrupted removal left.
PruneReport prune_job(const MachineState& machine, const Job& job,
                      const std::optional<std::string>& on_place, const PruneOptions& options,
                      const Clock& clock, Observer& observer);

// The job's time between runs, for judging a clock; 0 if it has no schedule.
Nanos usual_interval(const MachineState& machine, const Job& job, Nanos now);

}  // namespace kestrum
