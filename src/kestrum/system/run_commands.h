// The job's own commands around a run.
#pragma once

#include <string>

#include "kestrum/base/observer.h"
#include "kestrum/job/job.h"
#include "kestrum/machine/run_report.h"
#include "kestrum/system/process.h"

namespace kestrum {

enum class CommandTime { kBefore, kAfter };

// Runs the job's command before or after a run. It is told of the run by environment variables; its
// output goes to the log. An empty command succeeds.
CommandResult run_command(const Job& job, CommandTime time, const StopRequest& stop,
                          Observer& observer, const RunReport& report);

}  // namespace kestrum
