// The last steps of a set whose parts are written: ledger, seal, the rename that makes it one.
#pragma once

#include <future>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/backup/run_input.h"
#include "kestrum/backup/set_build.h"
#include "kestrum/backup/space_reclaimer.h"
#include "kestrum/machine/index.h"
#include "kestrum/plan/run_plan.h"

namespace kestrum {

// What is given is kept by reference and outlives it. Every call throws Error; the set is there
// whole or not at all. Called once each, in this order.
class SetCommit {
 public:
  SetCommit(const RunInput& input, OpenShelf& open, Index& index, const RunPlan& plan,
            const BuiltSet& built);

  // From the index's journal, read back unless the job says otherwise. Meanwhile another thread
  // prepares the index for the set.
  void write_ledger(Place& place, std::optional<std::vector<Lacking>> lacking);
  // Until that thread has done its work: for whoever uses the index while the ledger is written.
  void wait_for_index() const;
  // Tells of each file that the set has a line for, if somebody wants that.
  void tell_files(Observer& observer);
  // Seals it; `warned`: something did not go as it should. While the disk is full, `room` makes
  // some. From here on the set is pending in the index until remember(), or until the next run has
  // looked for the seal. Throws Error(kPlace) if the shelf has come into other hands, Error(kBusy)
  // if there is a set of this number by now.
  void seal(SpaceReclaimer& room, bool warned);
  // Lets the index and the shelf record know. The set is there whether this succeeds or not: the
  // next run makes up for it.
  void remember();

  // Bytes that this run put on the shelf for the set; meaningful after seal() was called.
  std::uint64_t stored_bytes() const { return seal_.totals.stored - built_.kept_stored; }

 private:
  void write_lines(Place& place, Index& journal);
  // As far as the job wants what was written looked at.
  void look_back(const std::string& path, std::uint64_t size, const Digest& digest);
  void fill_seal(bool warned);
  void name_disks();
  Digest commit_seal(SpaceReclaimer& room);

  const RunInput& input_;
  OpenShelf& open_;
  Index& index_;
  const RunPlan& plan_;
  const BuiltSet& built_;
  std::optional<std::vector<Lacking>> lacking_;
  Seal seal_;
  std::uint64_t lines_ = 0;  // of the ledger, without its head
  Digest seal_digest_{};
  std::future<void> preparing_;  // waited for before all else goes
};

}  // namespace kestrum
