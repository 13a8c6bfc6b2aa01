// What a run would do with each file, worked out from metadata. Nothing is written, and nothing
// read but the first bytes of what changed, for whether it looks like noise.
#pragma once

#include <algorithm>
#include <array>
#include <functional>
#include <string>
#include <vector>

#include "kestrum/base/observer.h"
#include "kestrum/chain/suspicion.h"
#include "kestrum/machine/run_report.h"
#include "kestrum/plan/run_plan.h"
#include "kestrum/plan/size_estimate.h"
#include "kestrum/select/selection.h"

namespace kestrum {

// What would happen to a file, in the words of the glossary. What is moved or copied can only be
// told apart by reading; here a file counts as moved if known content has its size and time.
enum class FileFate { kNew, kChanged, kMoved, kSame, kGone, kAbsent, kLeftOut, kFailed };
const char* fate_name(FileFate fate);  // "new", ..., "left out"

// Why nothing is copied from a folder of the job: the rules leave out all of it, or it is empty.
std::string nothing_copied(bool left_out);
// Of a folder of the job that matched a pattern before, and is not there now.
inline constexpr const char* kFolderIsAway = "this folder is not there; what it held is kept";

struct FolderChanges {
  std::string folder;  // absolute, one of the job's
  FileCounts files;
  ByteCounts bytes;  // seen, copied
};

// Bytes of files that were changed last within so many days before now: what a day brings, where no
// past run tells.
struct RecentBytes {
  std::uint64_t day = 0, week = 0, month = 0;
  bool known = false;  // some file has a time before now
  std::uint64_t a_day() const { return std::max({day, week / 7, month / 30}); }
};

struct ExpectedChanges {
  FileCounts files;
  ByteCounts bytes;  // seen, copied
  std::array<RuleCount, kRules> left_out{};
  std::vector<FolderChanges> folders;
  std::vector<Warning> warnings;  // folders that yield nothing or cannot be read
  SizeEstimate sizes;             // of what would be copied
  // Of files that the newest set does not hold under their name; without one, of what was changed
  // in the last 30 days.
  std::uint64_t fresh_bytes = 0;
  SizeEstimate fresh_sizes;  // of those
  RecentBytes recent;
  std::string suspect_why;  // why the set would be suspect; empty if it would not
};

struct ExpectOptions {
  Nanos now = 0;                          // for changed_within
  std::optional<SuspicionLimits> limits;  // nothing: whether the set would be suspect is not asked
  // Called for every file, in path order; `path` is absolute, `rule` is kTaken unless left out.
  std::function<void(FileFate, const std::string& path, std::uint64_t size, Rule rule)> visit;
  StopRequest stop;
};

// Temporary tables of the index are written to, nothing else. Throws Error(kStopped).
ExpectedChanges expected_changes(const RunPlan& plan, const Selection& selection, Index& index,
                                 const ExpectOptions& options, Observer& observer);

// How large the set will be, and how long it will take.
struct RunEstimate {
  std::uint64_t stored = 0;       // bytes
  std::uint64_t error = 0;        // bytes that it may be off by to either side
  double ratio = 1;               // bytes stored for each byte of data
  double fresh_ratio = 1;         // the same of files that are new
  std::optional<double> seconds;  // nothing without a past run
  std::string from;               // in words: "past runs of this job", "a sample of the files"
};

// By samples of what is to be copied if `sample`, which reads up to 96 MiB of it; otherwise by the
// past runs of the job. How long it takes by past runs.
RunEstimate estimate_run(const MachineState& machine, const Job& job, ExpectedChanges& changes,
                         bool sample);

// Makes fresh_ratio that of the new files, by a sample of them; estimate_run takes that of all.
void sample_fresh_files(const Job& job, ExpectedChanges& changes, RunEstimate& estimate);

}  // namespace kestrum
