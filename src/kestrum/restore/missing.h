// Files that a folder held once and does not hold now, each from the newest restore point that has
// it: for "half of it is gone, I do not know since when".
#pragma once

#include <string>
#include <vector>

#include "kestrum/machine/missing_entries.h"
#include "kestrum/restore/restore_selection.h"

namespace kestrum {

class MissingFiles {
 public:
  // Looks below `folders` (as typed; none: all of the job's) through the restore points up to
  // `newest`, and at the disk as it is now. `moved(path, now)` is told of each file whose content
  // lies on the disk under another name; it counts as there. Throws Error(kNoMatch) for a folder
  // that no restore point holds.
  MissingFiles(ReadSession& session, const Job& job, const std::vector<std::string>& folders,
               SetId newest,
               const std::function<void(const std::string&, const std::string&)>& moved,
               const StopRequest& stop, Observer& observer);

  std::uint64_t count() { return entries_.count(); }
  // The restore points that they come from, newest first.
  std::vector<SetId> sets() { return entries_.sets(); }
  void fill(RestoreSelection& selection);  // with those of its set

 private:
  void look_below(const std::string& folder, SetId newest, const StopRequest& stop);
  // The newest restore point up to `newest` that holds `version`.
  std::optional<SetId> newest_with(const PathVersion& version, SetId newest) const;
  void drop_moved(const Job& job,
                  const std::function<void(const std::string&, const std::string&)>& moved,
                  const StopRequest& stop, Observer& observer);

  ReadSession& session_;
  MissingEntries entries_;
};

}  // namespace kestrum
