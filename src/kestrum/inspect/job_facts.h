// What a report tells of a job: how it stands, what its runs did, what lies on its disks and how
// long there is room. Values only, from what this PC remembers and the disks that are there.
#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "kestrum/inspect/job_status.h"
#include "kestrum/inspect/largest.h"
#include "kestrum/inspect/past_runs.h"
#include "kestrum/inspect/stored_sets.h"

namespace kestrum {

struct RoomSeen {
  Nanos when = 0;
  std::uint64_t free = 0;  // bytes
};

// Room to come: free bytes after each run if things go on as they do, and as little and as much as
// they may.
struct RoomAhead {
  std::vector<Nanos> runs;
  std::vector<std::int64_t> middle, least, most;   // bytes, as many as runs; below 0: short of
  std::optional<Nanos> full_at, earliest, latest;  // nothing: not until the last of the runs
  std::string from;                                // in words: "14 past runs"
};

struct DiskFacts {
  std::string disk;   // as people call it
  std::string shelf;  // absolute folder
  bool attached = false;
  std::string why_not;                     // it is not
  Nanos last_seen = 0;                     // by the calendar; 0: not known
  std::uint64_t stored = 0, capacity = 0;  // bytes; as last seen; capacity 0: not known
  std::optional<std::uint64_t> free;       // nothing where the place does not tell
  std::vector<RoomSeen> room;              // at the end of past runs, and now
  std::optional<RoomAhead> ahead;          // nothing for one that is away
};

struct JobFacts {
  JobStatus status;
  std::string title;
  bool is_protected = true;
  std::vector<PastRun> runs;    // the oldest first
  std::vector<StoredSet> sets;  // of all disks, in the order they were taken
  std::vector<DiskFacts> disks;
  LargestPaths largest;  // of the newest restore point that this PC knows
  std::optional<Nanos> largest_at, largest_since;
  Nanos now = 0;
};

// Throws Error(kUsage) for a job that is not there; of one whose file is wrong, what the records
// say.
JobFacts job_facts(const Home& home, const std::string& job, const std::optional<DueCaller>& caller,
                   const Clock& clock);

}  // namespace kestrum
