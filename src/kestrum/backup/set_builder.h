// Turns what the walk finds into the content and the journal of one set: compares each path with
// what it was at the base, stores what is new, and says what happened to every file.
#pragma once

#include <algorithm>
#include <array>
#include <string>
#include <vector>

#include "kestrum/archive/set_writer.h"
#include "kestrum/backup/change_detector.h"
#include "kestrum/backup/change_tally.h"
#include "kestrum/backup/run_messages.h"
#include "kestrum/backup/run_plan.h"
#include "kestrum/backup/tree_diff.h"
#include "kestrum/base/data_runs.h"
#include "kestrum/base/observer.h"
#include "kestrum/machine/index.h"
#include "kestrum/select/source_file.h"
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
};

// What was found and stored.
struct BuildResult {
  FileCounts files;
  ByteCounts bytes;  // seen, copied
  std::array<RuleCount, kRules> left_out{};
  ChangeCounts changes;  // what became of the files that were known; counted by a whole build
  // Files whose content lies where it cannot be read back: those stored anew, and those that could
  // not be read now either.
  std::uint64_t stored_anew = 0, still_lost = 0;
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
  std::uint64_t carried_bytes() const {
    return carried_bytes_ - std::min(carried_bytes_, finished_bytes_);
  }

 private:
  void leave_root(const std::optional<std::string>& next);
  void handle(const PathDiff& diff);
  void handle_absent(const PathDiff& diff);
  void handle_left_out(const PathDiff& diff);
  void handle_gone(const IndexEntry& old);
  void handle_there(const PathDiff& diff);
  void put_removal(const IndexEntry& old, EntryType type);
  void handle_folder(const WalkEvent& event, const IndexEntry* old);
  void handle_other(const WalkEvent& event, const IndexEntry* old);
  void handle_file(const WalkEvent& event, const IndexEntry* old);
  bool handle_hardlink(const WalkEvent& event, const IndexEntry* old);
  // Reads, digests and stores a file's content unless it is known; `st` is of the open file. False
  // if it could not be read.
  bool store_small(Fd& fd, struct stat st, IndexEntry& entry, const IndexEntry* old);
  bool store_large(Fd& fd, IndexEntry& entry, const IndexEntry* old, bool last_try);
  void store_changed_again();
  // Reads content in order, holes as zeros, from `from` on; stores it if it is to. False if the
  // file ends early or cannot be read; then `error` says why it cannot.
  bool read_content(Fd& fd, const Entry& entry, const std::vector<DataRun>& data,
                    std::uint64_t from, Digester& digester, bool store, int& error);
  std::uint64_t begin_entry(const std::string& head, std::uint64_t content,
                            std::shared_ptr<const LargeFile> file = nullptr);
  // What the parts of an interrupted run hold of a path.
  std::optional<IndexEntry> carried(const std::string& path);
  void take_carried(const WalkEvent& event, IndexEntry& entry, const IndexEntry* old);
  // Ends the entry at which an interrupted run was cut: with the rest of its file, if that is as
  // it was, otherwise with zeros that nobody reads.
  void finish_cut_entry(const CutEntry& cut);
  bool go_on_with_file(const CutEntry& cut);
  // Puts a line that refers to content that is held already; false if none is.
  bool refer(IndexEntry& entry, const IndexEntry* old);
  void put_stored(IndexEntry& entry, std::uint64_t offset, std::uint64_t content_bytes);
  void put_unchanged(IndexEntry& entry, const IndexEntry& old);
  void put_entry_only(IndexEntry& entry);
  bool is_lost(const IndexEntry& old) { return input_.plan.is_lost(index_, old); }

  Entry describe(const WalkEvent& event);
  void warn(const std::string& path, const std::string& reason);
  void fail(const std::string& path, const std::string& reason);
  void report_progress(const std::string& path);
  void check_stop() const;

  SetBuilderInput input_;
  const Selection& selection_;
  Index& index_;
  SetWriter& writer_;
  RunMessages& messages_;
  BuildResult result_;
  Walk walk_;
  OwnerNames owners_;
  ChangeDetector detector_;
  ChangeTally tally_;
  std::map<std::string, std::uint64_t> absent_below_;  // what could not be read, with files kept
  std::vector<IndexEntry> changed_;  // large files that changed while they were read
  std::optional<std::string> root_;  // the folder of the job that is being walked
  std::uint64_t seen_before_root_ = 0, left_out_before_root_ = 0, warnings_before_root_ = 0;
  std::uint64_t gone_from_root_ = 0;
  bool folder_left_out_ = false;
  Bytes buffer_;
  Progress progress_;
  std::uint64_t carried_bytes_ = 0;
  std::uint64_t finished_bytes_ = 0;  // of the file that was cut, copied by this run
  std::uint64_t large_left_ = 0;      // bytes of the file being stored that are still to come
};

}  // namespace kestrum
