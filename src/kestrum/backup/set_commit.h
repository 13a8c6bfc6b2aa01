// The last steps of a set whose parts are written: ledger, seal, the rename that makes it one.
#pragma once

#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/archive/set_writer.h"
#include "kestrum/backup/run_plan.h"
#include "kestrum/backup/space_reclaimer.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/run_report.h"

namespace kestrum {

// What is given is kept by reference and outlives it. Every call throws Error; the set is there
// whole or not at all.
class SetCommit {
 public:
  // `folder` is that of the unfinished set, relative to the shelf.
  SetCommit(OpenShelf& open, Index& index, const RunPlan& plan, std::string folder,
            const Packing& packing, ReadBack read_back, RunReport& report)
      : open_(open),
        index_(index),
        plan_(plan),
        folder_(std::move(folder)),
        packing_(packing),
        read_back_(read_back),
        report_(report),
        begun_(report.started) {}

  // The set was begun by an earlier run, which left parts of so many bytes; `copied` is the size of
  // the files in them.
  void goes_on_with(Nanos begun, std::uint64_t stored, std::uint64_t copied) {
    begun_ = begun;
    kept_stored_ = stored;
    kept_copied_ = copied;
  }
  // From the index's journal, read back unless the job says otherwise.
  void write_ledger(Place& place);
  // Seals it. While the disk is full, `room` makes some. Throws Error(kPlace) if the shelf has come
  // into other hands, Error(kBusy) if there is a set of this number by now.
  void seal(const Clock& clock, SpaceReclaimer& room);
  // Lets the index and the record know. The set is there whether this succeeds or not: the next run
  // makes up for it.
  void remember();

  std::vector<PartInfo> parts;

 private:
  void fill_seal(Nanos finished);
  Digest commit_seal(SpaceReclaimer& room);

  OpenShelf& open_;
  Index& index_;
  const RunPlan& plan_;
  std::string folder_;
  Packing packing_;
  ReadBack read_back_;
  RunReport& report_;
  Nanos begun_;
  std::uint64_t kept_stored_ = 0, kept_copied_ = 0;  // bytes
  Seal seal_;
  std::uint64_t lines_ = 0;  // of the ledger, without its head
  Digest seal_digest_{};
};

}  // namespace kestrum
