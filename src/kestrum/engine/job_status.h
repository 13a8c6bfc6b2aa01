// How a job stands: last run, next run, what is on its shelf, what it waits for.
#pragma once

#include <optional>
#include <string>

#include "kestrum/base/clock.h"
#include "kestrum/engine/job_lock.h"
#include "kestrum/engine/run_report.h"

namespace kestrum {

enum class StatusLevel { kFine, kWarning, kCritical };
const char* state_name(StatusLevel level);  // "fine", "look", "trouble"

struct JobStatus {
  std::string job, host;
  StatusLevel level = StatusLevel::kFine;
  std::string problem;  // of the job file, or that it is overdue; empty if there is none
  Nanos last_run = 0;   // 0: never
  std::string outcome;  // of the last run
  std::string reason;   // why it ended so
  Nanos next_run = 0;   // 0: by hand, paused, or as soon as what it waits for is there
  bool by_hand = false, when_files_change = false;
  std::optional<JobLock::Holder> running;
  Nanos waiting_since = 0;
  std::string waiting_for;
  bool paused = false;
  Nanos paused_until = 0;
  std::optional<ShelfSummary> shelf;  // as it was at the end of the last run, its room as it is now
  bool attached = false;              // the shelf's disk is there now
  Nanos last_unlocked = 0;
  DrillRecord drill;
  std::vector<KnownDamage> damage;  // on any of the job's disks
  bool passphrase_due = false;      // not used for so long that it should be tried
  std::optional<SetId> suspect;     // the first set that is suspect
};

JobStatus job_status(const Home& home, const std::string& job, const Clock& clock);

}  // namespace kestrum
