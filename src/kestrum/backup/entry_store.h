// Puts entries into the set that is being written: their lines into the journal, and what no set
// holds yet into the tar. Reads files that change meanwhile, and goes on with what an interrupted
// run left in the parts.
#pragma once

#include <algorithm>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/archive/set_writer.h"
#include "kestrum/backup/content_feed.h"
#include "kestrum/backup/cut_entry.h"
#include "kestrum/backup/run_messages.h"
#include "kestrum/backup/stretched_file.h"
#include "kestrum/base/file.h"
#include "kestrum/base/observer.h"
#include "kestrum/crypto/digest.h"
#include "kestrum/machine/index.h"
#include "kestrum/plan/run_plan.h"
#include "kestrum/select/source_file.h"
#include "kestrum/select/source_tree.h"

namespace kestrum {

// Above this size (bytes), where no page cache serves the second reading, the time must agree too.
inline constexpr std::uint64_t kDigestFirstBySizeUpTo = std::uint64_t{1} << 30;

struct EntryStoreInput {
  const RunPlan& plan;
  // Of an interrupted run that this one goes on with: where its last part ends. The index knows
  // what the parts hold.
  std::optional<CutEntry> cut;
  StopRequest stop;
  std::string stretches_folder;  // relative to "/": of the tar entries that hold stretches
};

// Used by one thread. The state needed: a journal that was started for this set, with nothing in it
// or with what the parts of an interrupted run hold. What is passed by reference outlives it.
class EntryStore {
 public:
  EntryStore(EntryStoreInput input, Index& index, SetWriter& writer, RunMessages& messages,
             StoreCounts& counts);

  // ---- Lines
  Entry describe(const std::string& path, const struct stat& st) {
    return kestrum::describe(owners_, path, st);
  }
  // Only what no ledger shows may differ, as inode and ctime: the index learns it, the ledger gets
  // no line.
  void put_unchanged(IndexEntry& entry, const IndexEntry& old);
  void put_entry_only(IndexEntry& entry);

  // ---- Content
  // Reads, digests and stores a file's content unless it is held already; `st` is of the open file,
  // `old` what it was at the base. False if it could not be read, which is counted and told.
  bool store_file(Fd& fd, const struct stat& st, IndexEntry& entry, const IndexEntry* old);
  // The same of a file that was read already.
  bool store_read(const FileAhead& file, IndexEntry& entry, const IndexEntry* old);
  // Another name of a file that this set holds under the name of `first`.
  void put_other_name(IndexEntry& entry, const IndexEntry& first, const IndexEntry* old);
  // Files that changed while they were read, once more.
  void store_changed_again();
  // Whether the content of a path, as it was at the base, cannot be read back.
  bool is_lost(const IndexEntry& old) { return input_.plan.is_lost(index_, old); }

  // ---- What an interrupted run left
  // What the parts hold of a path. No tar knows of link groups: it is given the one of now.
  std::optional<IndexEntry> carried(const std::string& path, std::uint64_t link_group = 0);
  // Puts the line of a file that the parts hold as it is now.
  void put_carried(IndexEntry& entry, std::uint64_t inode);
  // Ends the entry at which the parts were cut: with the rest of its file, if that is as it was,
  // otherwise with zeros that nobody reads. Called before anything else is stored.
  void finish_cut_entry();
  // Of content that an earlier run of this set had copied; not in the counts' `copied`.
  std::uint64_t carried_bytes() const {
    return carried_bytes_ - std::min(carried_bytes_, finished_bytes_);
  }

  // ---- Telling. Paths are relative to "/".
  void warn(const std::string& path, const std::string& reason);
  void fail(const std::string& path, const std::string& reason);
  void report_progress(const std::string& path) { feed_.report(path); }
  void check_stop() const { feed_.check_stop(); }

 private:
  // What the parts hold of this path, for comparing: nor does a tar know on which disk it lay.
  std::optional<IndexEntry> carried_for(const IndexEntry& entry);
  bool store_small(Fd& fd, struct stat st, IndexEntry& entry, const IndexEntry* old);
  // `runs`: where it has data, if it has holes.
  bool store_content(ByteView content, const std::optional<std::vector<DataRun>>& runs,
                     IndexEntry& entry, const IndexEntry* old);
  bool store_large(Fd& fd, IndexEntry& entry, const IndexEntry* old, bool last_try);
  bool store_whole(Fd& fd, const struct stat& before, const std::vector<DataRun>& data,
                   IndexEntry& entry, bool last_try);
  void put_stretches(Fd& fd, const struct stat& before, StretchedFiles::Stored read, bool steady,
                     IndexEntry& entry, bool last_try);
  void put_read(Fd& fd, bool steady, IndexEntry& entry, bool last_try);
  bool is_stretched(std::uint64_t size) const { return input_.plan.is_stretched(size); }
  bool store_changes_again(IndexEntry& entry, bool last_try);
  std::uint64_t begin_entry(const std::string& path, std::string head, std::uint64_t content,
                            std::shared_ptr<const LargeFile> file = nullptr);
  bool store_again(IndexEntry& entry, bool last_try);
  bool can_be_read(Fd& fd, std::uint64_t size);
  // Puts a line that refers to content that is held already; false if none is.
  bool refer(IndexEntry& entry, const IndexEntry* old);
  // Puts the line of content that this set holds under another path, and a link to that.
  void put_linked(IndexEntry& entry, const std::string& holder, std::uint64_t offset);
  void put_stored(IndexEntry& entry, std::uint64_t offset, std::uint64_t content_bytes);

  EntryStoreInput input_;
  Index& index_;
  SetWriter& writer_;
  RunMessages& messages_;
  StoreCounts& counts_;
  OwnerNames owners_;
  SourceTree source_;
  std::vector<IndexEntry> changed_;  // large files that changed while they were read
  ContentFeed feed_;
  StretchedFiles stretched_;
  std::uint64_t dead_bytes_ = 0;  // of entries that took their place
  std::uint64_t carried_bytes_ = 0;
  std::uint64_t finished_bytes_ = 0;  // of the file that was cut, copied by this run
};

}  // namespace kestrum
