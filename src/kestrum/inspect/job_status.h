// How a job stands: last run, next run, what is on its shelf, what it waits for.
#pragma once

#include <optional>
#include <string>

#include "kestrum/base/clock.h"
#include "kestrum/inspect/copies_seen.h"
#include "kestrum/job/job_store.h"
#include "kestrum/machine/job_lock.h"
#include "kestrum/machine/run_report.h"
#include "kestrum/system/due_caller.h"

namespace kestrum {

enum class StatusLevel { kFine, kWarning, kCritical };
const char* state_name(StatusLevel level);  // "fine", "heed", "trouble"

// A disk of the job that this PC knows.
struct DiskSeen {
  std::string place;
  Nanos last_seen = 0;  // by the real clock; 0: not known
};

struct JobStatus {
  std::string job, host;
  StatusLevel level = StatusLevel::kFine;
  std::vector<std::string> problems;  // each is trouble: of the job file, that it is overdue, ...
  std::vector<std::string> heeds;     // each is a reason to look at the job
  std::vector<std::string> remarks;   // no reason to worry
  // The same without names of files and folders of the user's, and what each is about, without
  // times and counts: for telling what is new.
  std::vector<std::string> discreet_problems, discreet_heeds, kinds;
  Nanos last_run = 0;      // 0: never
  std::string outcome;     // of the last run
  std::string reason;      // why it ended so
  std::string run;         // its id
  std::string no_pruning;  // why nothing at all was pruned by it
  Nanos next_run = 0;      // 0: by hand, paused, or as soon as what it waits for is there
  bool by_hand = false, when_files_change = false;
  std::optional<JobLock::Holder> running;
  Nanos waiting_since = 0;
  std::string waiting_for;
  bool paused = false;
  Nanos paused_until = 0;
  std::optional<ShelfSummary> shelf;  // as it was at the end of the last run, its room as it is now
  bool attached = false;              // the shelf's disk is there now
  std::vector<DiskSeen> disks;
  std::vector<CopySeen> copies;
  Nanos last_unlocked = 0;
  DrillRecord drill;
  std::string drilled_at;  // another machine, as it says of itself; empty: this one
  VerifyRecord verified;
  // All reasons, problems first, by such names or without.
  std::vector<std::string> reasons(bool names) const;
  std::vector<KnownDamage> damage;  // on any of the job's disks
  std::optional<SetId> suspect;     // the first set that is suspect
  std::string suspect_on;           // the place of its disk, where the job has several
};

// `caller`: what calls `run --due` on this PC; nothing where that says nothing, as under a
// simulated clock, whose moments come only when somebody names them.
JobStatus job_status(const Home& home, const std::string& job,
                     const std::optional<DueCaller>& caller, const Clock& clock);

}  // namespace kestrum
