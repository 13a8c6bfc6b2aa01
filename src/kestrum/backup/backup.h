// One run of a job: from the folders to a sealed set.
#pragma once

#include "kestrum/backup/run_input.h"
#include "kestrum/machine/run_report.h"

namespace kestrum {

// Runs the job. Never throws for what goes wrong during the run: that is the report's outcome,
// exit, reason and hint. Takes the job's lock; several jobs may run in threads of one process.
RunReport run_backup(const MachineState& machine, const Job& job, const BackupOptions& options,
                     const Clock& clock, Observer& observer);

}  // namespace kestrum
