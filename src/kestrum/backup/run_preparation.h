// The phases of a run before anything is written: find the shelf, find out what holds there and
// what this PC knows of it, decide which set comes next.
#pragma once

#include <optional>
#include <string>

#include "kestrum/access/open_shelf.h"
#include "kestrum/backup/run_input.h"
#include "kestrum/backup/run_messages.h"
#include "kestrum/machine/index.h"
#include "kestrum/plan/run_plan.h"

namespace kestrum {

// The job's shelf, and says so where its disk is mounted elsewhere. Of a job that spans it goes on
// to the disk that waits, if the one that it was on is full. Throws Error as find_shelf_to_write()
// does, and full_disk().
OpenShelf find_disk(const RunInput& input, RunMessages& messages);

// What to tell where the disk is full, and none that waits is there.
Error full_disk(const Job& job, const ShelfState& state);

// Throws Error(kUsage) if the clock, or the job's protection, does not fit the shelf.
void check_shelf(const RunInput& input, const OpenShelf& open);

// Says what changed since the last set: in the job, and on the shelf where a seal cannot be read or
// files are missing. The latter is remembered, so that plan and pruning go by it.
void examine_shelf(const RunInput& input, OpenShelf& open, RunMessages& messages);

// Nothing if the index knows what lies on the shelf, after a rebuild if need be; otherwise why the
// next set must be full. `set_back`: why the shelf is an older state of itself, if it is. The state
// needed: recover_shelf() was called.
std::optional<std::string> bring_index_up_to_date(const RunInput& input, OpenShelf& open,
                                                  const std::optional<std::string>& set_back,
                                                  Index& index, RunMessages& messages);

RunPlan decide_plan(const RunInput& input, const OpenShelf& open, Index& index,
                    std::optional<std::string> must_be_full, RunMessages& messages);

// The same where the full set that was merely due does not fit: a dependent one.
RunPlan decide_smaller_plan(const RunInput& input, const OpenShelf& open, Index& index);

// Throws Error(kFailed) if a full set is due and none of the job's folders is there.
void check_plan(const RunInput& input, const RunPlan& plan);

}  // namespace kestrum
