// Files that a folder held once and does not hold now, each from the newest restore point that has
// it: for "half of it is gone, I do not know since when".
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "kestrum/machine/missing_entries.h"
#include "kestrum/restore/restore_selection.h"
#include "kestrum/select/source_tree.h"

namespace kestrum {

struct MissingRequest {
  const Job& job;
  std::vector<std::string> folders;  // relative to "/"; none: all of the job's
  SetId newest;                      // restore points up to this one
  // Whether another disk of the job has a later one than `held`, the newest here that has it.
  std::function<bool(const std::string& path, Nanos held)> later_elsewhere;
  // Told of each file whose content lies on the disk under another name; it counts as there. Paths
  // are absolute.
  std::function<void(const std::string& path, const std::string& now)> moved;
  StopRequest stop;
};

// When the newest restore point up to `newest` was made that has a file of this path.
std::optional<Nanos> newest_with_file(ReadSession& session, const std::string& path, SetId newest);

class MissingFiles {
 public:
  // Looks through the restore points, and at the disk as it is now.
  MissingFiles(ReadSession& session, const MissingRequest& request, Observer& observer);

  std::uint64_t count() { return entries_.count(); }
  // The restore points that they come from, newest first.
  std::vector<SetId> sets() { return entries_.sets(); }
  void fill(RestoreSelection& selection);  // with those of its set

 private:
  void look_below(const std::string& folder, const MissingRequest& request,
                  const SourceTree& source);
  void drop_moved(const MissingRequest& request, const std::vector<std::string>& roots,
                  const SourceTree& source, Observer& observer);

  ReadSession& session_;
  MissingEntries entries_;
};

}  // namespace kestrum
