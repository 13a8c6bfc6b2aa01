// Bringing a copy of a job's shelf up to date, and pruning it as its shelf is.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/copy_shelf.h"
#include "kestrum/backup/prune.h"

namespace kestrum {

struct CopyJobOptions {
  std::string place;  // absolute
  bool newest_chain = false;
  bool same_disk = false;         // allow the filesystem of the shelf, of "/" or of a source
  bool everything = false;        // also what no promise holds; nothing is pruned
  bool update_only = false;       // of a copy that is there: an empty mount point stays empty
  std::optional<std::string> on;  // the place of the shelf, where the job has several
  StopRequest stop;
};

struct CopyJobResult {
  CopyResult copy;
  std::string from;                // the shelf
  std::string shelf;               // UUID
  std::vector<PrunedSet> removed;  // from the copy, which no promise of the job holds any more
};

// Of the lock that copying a job takes. No job has such a name: runs go on meanwhile.
std::string copy_lock_name(const Job& job);

// The first time what lies at the place decides of which of the job's shelves it is a copy. What
// goes from the copy is decided by its own sets and the job's promises, never by what the shelf
// lacks: a shelf that lost its sets takes none from its copy. Throws Error(kBusy) while the same is
// done, and as copy_shelf and check_place do.
CopyJobResult copy_job(const MachineState& machine, const Job& job, const CopyJobOptions& options,
                       const Clock& clock, Observer& observer);

}  // namespace kestrum
