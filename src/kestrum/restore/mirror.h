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

struct SetAsideRequest {
  const Job& job;
  SetId set;
  std::string folder;  // as the set knows it, relative to "/"
  FolderMap map;       // where it, and others of the set, lie here
  Nanos now = 0;
  bool rehearse = false;
  StopRequest stop;
};

// Moves what is in the folder, where it lies here, and differs from the restore point, or was not
// there then, to a dated folder beside it: nothing is deleted. What the job's rules leave out
// stays. While rehearsing it is only told. The dated folder is left out of runs from now on.
SetAside set_aside_what_differs(const MachineState& machine, ReadSession& session,
                                const SetAsideRequest& request, Observer& observer);

}  // namespace kestrum
