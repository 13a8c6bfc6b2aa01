// The job's own commands around a run.
#pragma once

#include <string>

#include "kestrum/base/observer.h"
#include "kestrum/job/job.h"
#include "kestrum/machine/run_report.h"
#include "kestrum/system/job_command.h"

namespace kestrum {

// Runs `command`, the job's `before` or `after` as `when` says. It is told of the run by
// environment variables; its output goes to the log. An empty command succeeds.
CommandResult run_command(const Job& job, const std::string& command, const char* when,
                          const StopRequest& stop, Observer& observer, const RunReport& report);

}  // namespace kestrum
