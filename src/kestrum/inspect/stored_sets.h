// The sets of a job over time, on all of its disks.
#pragma once

#include <string>
#include <vector>

#include "kestrum/access/find_shelf.h"
#include "kestrum/inspect/past_runs.h"

namespace kestrum {

// A set that lies on a disk, or lay there as long as the records tell.
struct StoredSet {
  SetId set;
  SetKind kind = SetKind::kFull;
  std::string disk;   // empty if the job has one
  std::string shelf;  // absolute folder
  Nanos taken = 0;
  Nanos gone = 0;            // when it was pruned, as far as is known; 0: it is there
  std::uint64_t stored = 0;  // bytes; 0: not known
  bool restorable = true;    // it and all it is based on are there and sealed
  bool suspect = false;
};

// Those of a shelf that is there.
std::vector<StoredSet> sets_on(const OpenShelf& open, const std::string& disk = "");
// Those of all shelves, of one that is away as this PC's index remembers them.
std::vector<StoredSet> sets_on(const std::vector<KnownShelf>& shelves);
// Adds what the records of runs, and of what was done by hand, tell: what was pruned, and the sizes
// of what is away. In the order they were taken then.
void add_recorded(const MachineState& machine, const std::string& job,
                  const std::vector<PastRun>& runs, std::vector<StoredSet>& sets);

}  // namespace kestrum
