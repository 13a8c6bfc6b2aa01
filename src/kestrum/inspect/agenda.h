// What will run when, and which kind of set each run will make.
#pragma once

#include <string>
#include <vector>

#include "kestrum/system/check_schedule.h"
#include "kestrum/system/scheduler.h"

namespace kestrum {

struct AgendaEntry {
  std::string job;
  Nanos at = 0;
  SetKind kind = SetKind::kFull;
  bool made_up = false;  // a time that has passed already, as soon as it can be
};

struct AgendaSpan {
  Nanos now = 0, until = 0;
  std::size_t most = 0;  // runs
};

// The runs of a job in a span of time, as the chain would go on if each succeeds.
std::vector<AgendaEntry> agenda_of(const MachineState& machine, const Job& job,
                                   const Scheduler& scheduler, const AgendaSpan& span);

// When a disk of the job should be in again, by [rotation] expect; what is overdue comes first.
struct DiskEntry {
  std::string job;
  Nanos by = 0;
  std::string place;
  Nanos last_seen = 0;
};
std::vector<DiskEntry> disks_due(const MachineState& machine, const Job& job,
                                 const AgendaSpan& span);

// The checks of a job by themselves in a span of time; none is straight after a run as yet.
struct CheckEntry {
  std::string job;
  Nanos at = 0;
  CheckKind what = CheckKind::kVerify;
};
std::vector<CheckEntry> checks_of(const Job& job, const AgendaSpan& span);

}  // namespace kestrum
