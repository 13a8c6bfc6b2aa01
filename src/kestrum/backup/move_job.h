// A new home for a job: its shelf is copied to another place and goes on there.
#pragma once

#include <optional>

#include "kestrum/access/move_shelf.h"
#include "kestrum/backup/copy_job.h"

namespace kestrum {

struct MoveJobResult {
  std::optional<CopyJobResult> copy;  // nothing where a move that was cut off was finished
  std::optional<MovedShelf> moved;    // nothing if the copy lacks something: the job stays
};

// Copies all sets while runs go on, and what came meanwhile with the job's lock held; then the
// shelf moves. Throws as copy_job, and Error(kBusy) while a run is under way.
MoveJobResult move_job(const MachineState& machine, const JobStore& jobs, const Job& job,
                       CopyJobOptions options, const Clock& clock, Observer& observer);

}  // namespace kestrum
