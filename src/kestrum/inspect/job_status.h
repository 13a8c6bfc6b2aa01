// How a job stands: last run, next run, what is on its shelf, what it waits for.
#pragma once

#include <optional>
#include <string>

#include "kestrum/base/clock.h"
#include "kestrum/job/job_store.h"
#include "kestrum/machine/job_lock.h"
#include "kestrum/machine/run_report.h"
#include "kestrum/system/due_caller.h"

namespace kestrum {

enum class StatusLevel { kFine, kWarning, kCritical };
const char* state_name(StatusLevel level);  // "fine", "look", "trouble"

struct JobStatus {
  std::string job, host;
  StatusLevel level = StatusLevel::kFine;
  std::vector<std::string> problems;  // each is trouble: of the job file, that it is overdue, ...
  std::string uncertain;              // what could not be found out; no reason to worry by itself
  Nanos last_run = 0;                 // 0: never
  std::string outcome;                // of the last run
  std::string reason;                 // why it ended so
  Nanos next_run = 0;  // 0: by hand, paused, or as soon as what it waits for is there
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
  std::string suspect_on;           // the place of its disk, where the job has several
};

// `caller`: what calls `run --due` on this PC; nothing where that says nothing, as under a
// simulated clock, whose moments come only when somebody names them.
JobStatus job_status(const Home& home, const std::string& job,
                     const std::optional<DueCaller>& caller, const Clock& clock);

}  // namespace kestrum
