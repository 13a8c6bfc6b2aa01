// What a job's plan comes to on its shelf: how much must fit at once, and for how long it does.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/chain/outlook.h"
#include "kestrum/plan/expected_changes.h"
#include "kestrum/plan/run_plan.h"

namespace kestrum {

// The job's rules and its coming runs, the first of them now; a job without times is taken to run
// once a day. Without sets and sizes.
OutlookInput plan_of(const MachineState& machine, const Job& job, Nanos now);

// What the plan comes to from an empty shelf on, in sets alone.
Outlook bare_outlook(const MachineState& machine, const Job& job, Nanos now);

// A plan at one rate of growth.
struct OutlookAtRate {
  Outlook outlook;
  std::optional<Nanos> full_at;        // the first run that finds too little room
  std::optional<Nanos> above_wish_at;  // the first that leaves more than at_most
};

struct JobOutlook {
  OutlookAtRate middle, slow, fast;  // as things are, and as little and as much as they may grow
  std::uint64_t full_bytes = 0, dependent_bytes = 0;  // what a set was taken to need
  double seen_growth = 0;                             // of all files, bytes a day
  std::string from;         // in words, how that was found: "14 past runs"
  std::vector<Nanos> runs;  // that were looked at
  Nanos last_run = 0;       // as far as was looked ahead
};

// The run that comes next, as planned.
struct PlannedRun {
  NextSet next;
  std::uint64_t bytes = 0;  // that it needs
  RunEstimate estimate;     // of what it stores
  const ExpectedChanges* changes = nullptr;
  std::optional<std::uint64_t> free_bytes;  // on the disk; nothing if that is not known
  Nanos now = 0;
  std::optional<Nanos> until;  // how far is looked ahead; nothing: as far as the promises reach
};

// From what lies on the shelf; nothing: an empty one.
JobOutlook job_outlook(const MachineState& machine, const Job& job, const OpenShelf* open,
                       Index* index, const PlannedRun& planned);

}  // namespace kestrum
