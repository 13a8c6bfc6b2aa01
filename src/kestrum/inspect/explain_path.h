// Why a path is in a job or out of it.
#pragma once

#include <string>
#include <vector>

#include "kestrum/job/job.h"
#include "kestrum/machine/machine_state.h"

namespace kestrum {

// Why a path is in or out, in words, one line each.
std::vector<std::string> explain_path(const MachineState& machine, const Job& job,
                                      const std::string& path);

}  // namespace kestrum
