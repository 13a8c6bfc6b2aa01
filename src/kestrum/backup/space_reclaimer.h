// Finds room for the set that a run is writing: before it begins and, when the disk is fuller than
// thought, in the middle of it.
#pragma once

#include <functional>
#include <optional>
#include <vector>

#include "kestrum/backup/prune.h"
#include "kestrum/backup/run_input.h"

namespace kestrum {

// What is passed to it by reference outlives it.
class SpaceReclaimer {
 public:
  // For a set based on `base`. `expect` works out the bytes that the run will take, at most once
  // and never while it writes.
  SpaceReclaimer(const RunInput& input, OpenShelf& open, Index& index, std::optional<SetId> base,
                 std::function<std::uint64_t()> expect);

  // If the run may not fit, removes what no promise holds. Throws Error(kNoRoom) if it then surely
  // does not, and something smaller can take its place.
  void before(bool can_be_smaller);
  // The disk is full: removes what no promise holds and, where the job says so, more. False if
  // nothing could be removed. Called by the thread that writes.
  bool during();
  // What to tell the user after all that was not enough; `written` bytes are gone again.
  Error explain(std::uint64_t written);

  // Whether during() was ever called: it was this disk that had no room, and not the PC's own.
  bool disk_was_full() const { return was_full_; }
  // What was removed; the index has still to forget it.
  const std::vector<PrunedSet>& removed() const { return removed_; }

 private:
  PruneReport prune(const PruneOptions& options);
  std::uint64_t expected();

  OpenShelf& open_;
  Index& index_;
  const Job& job_;
  PruneOptions options_;
  Observer& observer_;
  std::function<std::uint64_t()> expect_;
  std::optional<std::uint64_t> expected_;
  std::vector<PrunedSet> removed_;
  bool was_full_ = false;
};

}  // namespace kestrum
