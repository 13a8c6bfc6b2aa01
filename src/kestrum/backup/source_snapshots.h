// Snapshots of the folders that a run copies, where their filesystem makes them (btrfs), so that
// files which programs hold open are copied as they were at one moment.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/backup/run_messages.h"
#include "kestrum/job/job.h"
#include "kestrum/machine/snapshot_records.h"
#include "kestrum/select/snapshot_view.h"

namespace kestrum {

// Removes snapshots that runs which were killed left, of `job`, whose lock is held, and of jobs
// that nobody runs now. What cannot be removed is warned of, and tried again by the next run.
void remove_left_over_snapshots(const MachineState& machine, const std::string& job,
                                RunMessages& messages);

class SourceSnapshots {
 public:
  // Makes a snapshot of each subvolume that one of `roots` (absolute) lies in. Where that cannot
  // be, none is made, and the files themselves are read; with SnapshotUse::kRequire throws
  // Error(kFailed) then. What is passed by reference outlives it.
  SourceSnapshots(const MachineState& machine, const Job& job,
                  const std::vector<std::string>& roots, RunMessages& messages);
  ~SourceSnapshots();  // removes them
  SourceSnapshots(const SourceSnapshots&) = delete;
  SourceSnapshots& operator=(const SourceSnapshots&) = delete;

  const SnapshotView& view() const { return view_; }

 private:
  // Why there is none of this root; nothing if there is, or if it is not there. Empty where nobody
  // needs to be told.
  std::optional<std::string> take(const std::string& root);
  std::optional<std::string> make(Fd top, std::string live, const struct stat& st);
  void tell_once(const std::string& root, const std::string& why);
  void remove();

  SnapshotRecords records_;
  const Job& job_;
  RunMessages& messages_;
  SnapshotView view_;
  std::vector<SnapshotRecord> made_;
};

}  // namespace kestrum
