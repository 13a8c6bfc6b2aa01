// The record of one run: what `run --json`, the log and last-run.json tell.
#pragma once

#include <sys/stat.h>

#include <array>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/json.h"
#include "kestrum/select/selection.h"
#include "kestrum/shelf/counts.h"
#include "kestrum/shelf/seal.h"

namespace kestrum {

struct Warning {
  std::string path;  // absolute; may be empty
  std::string reason;
};

enum class Outcome { kDone, kDoneWithWarnings, kFailed, kStopped, kSkipped };
const char* outcome_name(Outcome outcome);

struct RuleCount {
  std::uint64_t files = 0;
  std::uint64_t folders = 0;  // left out whole, with what is in them
  std::uint64_t bytes = 0;    // of the files

  // One more that a rule leaves out.
  void add(const struct stat& st) {
    ++(S_ISDIR(st.st_mode) ? folders : files);
    if (S_ISREG(st.st_mode)) bytes += static_cast<std::uint64_t>(st.st_size);
  }
};

// How a shelf stood at the end of a run: what is told of it while its disk is away.
struct ShelfSummary {
  std::string path;
  std::uint64_t restore_points = 0;
  Nanos newest = 0, oldest = 0;  // 0: none
  std::uint64_t stored_bytes = 0;
  std::optional<std::uint64_t> free_bytes;  // nothing where the place does not tell
};

// A folder that the job copied, and that was not there, or whose disk was not.
struct AwayFolder {
  std::string path;       // absolute
  Nanos since = 0;        // of the first run that found it so
  std::string may_be_at;  // absolute; empty if nothing like it was found
};

struct RunReport {
  std::string trigger = "by hand";  // what the run came of
  bool waits = false;               // the disk is away: worth trying again by itself
  bool stopped_by_user = false;     // by `kestrum stop`
  std::optional<ShelfSummary> shelf;
  std::string run;  // id, unique among the runs of the job on this machine
  std::string job, host;
  Nanos started = 0, finished = 0;
  Outcome outcome = Outcome::kFailed;
  int exit = 3;
  std::string reason;  // why it ended as it did; empty when done
  std::string hint;
  std::optional<SetId> set;
  std::optional<SetKind> kind;
  std::optional<SetId> based_on;
  std::string why;  // why it is of this kind
  std::string shelf_path;
  std::string on;  // the place that the shelf is known at, where the job has several
  bool continued = false, suspect = false;
  // Of a run that did not finish: what the next one goes on with.
  std::uint64_t kept_parts = 0, kept_bytes = 0;
  std::string suspect_why;              // of this set
  std::optional<SetId> suspect_since;   // the first suspect set that nobody trusts
  std::optional<SetId> before_suspect;  // the newest set before that; nothing if there is none
  FileCounts files;
  ByteCounts bytes;
  double seconds = 0;
  // At most kWarningLimit are kept here; the log has them all.
  std::vector<Warning> warnings;
  std::uint64_t warning_count = 0;
  std::array<RuleCount, kRules> left_out{};
  std::vector<std::string> pruned;
  std::optional<std::vector<AwayFolder>> away;  // nothing if the run did not get so far
  std::string no_pruning;  // why nothing at all may go; empty if what no promise holds went
  std::vector<std::string> notes;

  // `path` is absolute, or empty. Counted in any case, kept up to the limit.
  void add_warning(const std::string& path, const std::string& because);
  // Of something behind the end of a run: one that was done is done with warnings then.
  void warn_after_end(const std::string& because);
  Json to_json() const;
};
inline constexpr std::size_t kWarningLimit = 10'000;

}  // namespace kestrum
