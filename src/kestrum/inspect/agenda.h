// What will run when, and which kind of set each run will make.
#pragma once

#include <string>
#include <vector>

#include "kestrum/system/scheduler.h"

namespace kestrum {

struct AgendaEntry {
  std::string job;
  Nanos at = 0;
  SetKind kind = SetKind::kFull;
  bool made_up = false;  // a time that has passed already, as soon as it can be
};

// The runs of a job from now to `until`, as the chain would go on if each succeeds. At most
// `limit` of them.
std::vector<AgendaEntry> agenda_of(const MachineState& machine, const Job& job,
                                   const Scheduler& scheduler, Nanos now, Nanos until,
                                   std::size_t limit);

}  // namespace kestrum
