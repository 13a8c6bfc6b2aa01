// The set that a run makes, until it can be sealed: its folder, what an interrupted run left of it,
// and its parts.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/backup/continuation.h"
#include "kestrum/backup/run_input.h"
#include "kestrum/backup/run_messages.h"
#include "kestrum/backup/set_builder.h"
#include "kestrum/plan/run_plan.h"

namespace kestrum {

// A set whose parts are written and that has neither ledger nor seal.
struct BuiltSet {
  std::string folder;  // unfinished, relative to the shelf
  Packing packing;
  ReadBack read_back = ReadBack::kParts;
  Nanos begun = 0;  // when the first run of it started
  std::vector<PartInfo> parts;
  std::unique_ptr<BlocksWriter> blocks;  // has the digests of the parts
  BuildResult result;
  // Of the parts that an interrupted run left: bytes of them, and of the files in them.
  std::uint64_t kept_stored = 0, kept_copied = 0;
  std::optional<std::string> suspicion;  // why the set is suspect
  bool mends_damage = false;             // nothing leans on the damage that was known any more
};

// What a run that fails leaves for the next one.
struct KeptParts {
  std::uint64_t parts = 0, bytes = 0;
};

// The state needed: recover_shelf() was called, nothing is pending, the job's lock is held.
class SetBuild {
 public:
  // What is passed by reference outlives it.
  SetBuild(const RunInput& input, OpenShelf& open, Index& index, const RunPlan& plan,
           RunMessages& messages);

  // Finds what an interrupted run left: if this one can go on with it, it will; all else is
  // removed.
  void continue_or_discard();
  const std::optional<Continuation>& continued() const { return continued_; }
  const std::string& folder() const { return folder_; }  // unfinished, relative to the shelf
  std::uint64_t kept_bytes() const { return continued_ ? continued_->bytes() : 0; }

  // Writes the parts to `place`, the shelf's with what is laid over it. Throws Error for what stops
  // the run.
  BuiltSet build(Place& place, const Selection& selection, const SnapshotView& snapshots);
  // So far, also after build() threw.
  const BuildResult& result() const { return result_; }

  // After an error at any moment up to the seal: keeps the parts that last, for the next run.
  // Touches nothing where the set may have been sealed. Never throws.
  KeptParts give_up();

 private:
  void open_folder();
  bool report_mended(const BuildResult& result);

  const RunInput& input_;
  OpenShelf& open_;
  Index& index_;
  const RunPlan& plan_;
  RunMessages& messages_;
  Packing packing_;
  std::string folder_;
  std::optional<Continuation> continued_;
  BuildResult result_;
};

}  // namespace kestrum
