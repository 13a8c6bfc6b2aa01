// Makes the content and the journal of one set: walks, compares each path with what it was at the
// base, has stored what is new, and says what happened to every file.
#pragma once

#include <array>
#include <string>
#include <vector>

#include "kestrum/backup/entry_store.h"
#include "kestrum/backup/run_messages.h"
#include "kestrum/base/data_runs.h"
#include "kestrum/base/observer.h"
#include "kestrum/machine/index.h"
#include "kestrum/plan/change_detector.h"
#include "kestrum/plan/change_tally.h"
#include "kestrum/plan/new_file_rules.h"
#include "kestrum/plan/run_plan.h"
#include "kestrum/plan/tree_diff.h"
#include "kestrum/plan/walk_ahead.h"
#include "kestrum/select/walk.h"

namespace kestrum {

struct SetBuilderInput {
  RunPlan plan;
  bool reread = false;
  Nanos now = 0;  // for changed_within
  // Of an interrupted run that this one goes on with: where its last part ends. The index knows
  // what the parts hold.
  std::optional<CutEntry> cut;
  StopRequest stop;
  const SnapshotView* snapshots = nullptr;  // outlives the builder
  std::string stretches_folder;             // as EntryStoreInput says
};

// What was found and stored.
struct BuildResult : StoreCounts {
  std::array<RuleCount, kRules> left_out{};
  // What became of the files that were known, but for noise; counted by a whole build.
  ChangeCounts changes;
  // Files whose content lies where it cannot be read back: those stored anew, and those that could
  // not be read now either.
  std::uint64_t stored_anew = 0, still_lost = 0;
  // Folders that are not there, or whose disk is not; absolute. What they held is kept.
  std::vector<std::string> away;
};

// Used by one thread. The state needed: a journal that was started for this set, with nothing in it
// or with what the parts of an interrupted run hold.
class SetBuilder {
 public:
  SetBuilder(SetBuilderInput input, const Selection& selection, Index& index, SetWriter& writer,
             RunMessages& messages);

  // Walks, compares and stores. Throws Error for what stops the run.
  void build();
  // So far, also after build() threw.
  const BuildResult& result() const { return result_; }
  // Of content that an earlier run of this set had copied; not in the result's `copied`.
  std::uint64_t carried_bytes() const { return store_.carried_bytes(); }

 private:
  bool next_found(WalkAhead& found, WalkEvent& event);
  void leave_root(const std::optional<std::string>& next);
  void handle(const PathDiff& diff);
  void handle_absent(const PathDiff& diff);
  void handle_left_out(const PathDiff& diff);
  void handle_gone(const IndexEntry& old);
  void handle_there(const PathDiff& diff);
  void put_removal(const IndexEntry& old, EntryType type);
  void handle_folder(const WalkEvent& event, const IndexEntry* old);
  std::map<std::string, std::string> attributes_of(const std::string& path, Attributes found);
  void put_folder(const WalkEvent& event, const IndexEntry* old);
  void handle_other(const WalkEvent& event, const IndexEntry* old);
  void handle_file(const WalkEvent& event, const IndexEntry* old);
  std::uint64_t link_group(const struct stat& st, const IndexEntry* old);
  bool handle_other_name(const WalkEvent& event, const IndexEntry* old, const FirstName& first);
  bool is_full() const { return input_.plan.is_full(); }

  SetBuilderInput input_;
  const Selection& selection_;
  Index& index_;
  RunMessages& messages_;
  BuildResult result_;
  EntryStore store_;
  Walk walk_;
  ChangeDetector detector_;
  NewFileRules new_files_;
  ChangeTally tally_;
  std::map<std::string, std::uint64_t> absent_below_;  // what could not be read, with files kept
  std::optional<std::string> root_;                    // the folder of the job that is being walked
  std::uint64_t seen_before_root_ = 0, left_out_before_root_ = 0, warnings_before_root_ = 0;
  std::uint64_t gone_from_root_ = 0;
  bool folder_left_out_ = false;
  std::uint16_t disk_ = 0;  // of the path that is being handled
};

}  // namespace kestrum
