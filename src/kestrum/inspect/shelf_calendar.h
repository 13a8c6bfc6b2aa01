// What was made on each day, what of it is there still, and which days can be restored.
#pragma once

#include <string>
#include <vector>

#include "kestrum/base/zone.h"
#include "kestrum/inspect/stored_sets.h"

namespace kestrum {

struct CalendarSet {
  SetId id;
  SetKind kind = SetKind::kFull;
  bool there = true;       // false: pruned
  bool restorable = true;  // it and all it is based on are there and sealed
  bool suspect = false;
};

struct CalendarDay {
  LocalDay day;
  std::vector<CalendarSet> sets;  // in order
  bool failed = false;            // a run of the day made no set
  bool missed = false;            // a time of the schedule passed without a run
};

// From the first day that a set or a record tells of to today, days without anything included.
std::vector<CalendarDay> shelf_calendar(const std::vector<StoredSet>& sets,
                                        const std::vector<PastRun>& runs, Nanos now);
// Of one disk of a job.
std::vector<CalendarDay> shelf_calendar(const MachineState& machine, const OpenShelf& open,
                                        const std::string& job, Nanos now);

}  // namespace kestrum
