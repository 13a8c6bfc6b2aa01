// Clearing the way for a folder to become exactly what it was.
#pragma once

#include <string>
#include <vector>

#include "kestrum/access/read_session.h"

namespace kestrum {

struct SetAside {
  std::string folder;              // where it went, absolute; empty if there was nothing to move
  std::vector<std::string> paths;  // absolute, as they were; a folder stands for all in it
};

// Moves what is in `folder` (relative to "/") now and differs from the restore point `set`, or was
// not there then, to a dated folder beside it: nothing is deleted. What the job's rules leave out
// stays. With `rehearse` it is only told. The dated folder is left out of runs from now on.
SetAside set_aside_what_differs(const MachineState& machine, ReadSession& session, const Job& job,
                                SetId set, const std::string& folder, Nanos now, bool rehearse,
                                const StopRequest& stop, Observer& observer);

}  // namespace kestrum
