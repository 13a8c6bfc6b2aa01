#include "kestrum/backup/entry_store.h"

#include <algorithm>
#include <cerrno>

#include "kestrum/archive/tar_format.h"
#include "kestrum/archive/tar_head.h"
#include "kestrum/backup/cut_entry.h"
#include "kestrum/backup/listed_content.h"
#include "kestrum/base/error.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/plan/change_detector.h"
#include "kestrum/plan/change_tally.h"

namespace kestrum {
namespace {

constexpr int kReadTries = 3;  // for a file that changes while it is read
// Smaller files of the same content become links in the tar only where their metadata is the same
// too: plain tar then gives them their own times and modes, and inside a compressed block a small
// repetition costs next to nothing.
constexpr std::uint64_t kAlwaysLinked = 64 << 10;
// What was stored and does not count, since its file changed meanwhile: bytes that are always borne
// with, and beyond that the share of the set.
constexpr std::uint64_t kDeadBytes = 64 << 20;
constexpr std::uint64_t kDeadShare = 10;

}  // namespace

EntryStore::EntryStore(EntryStoreInput input, Index& index, SetWriter& writer,
                       RunMessages& messages, StoreCounts& counts)
    : input_(std::move(input)),
      index_(index),
      writer_(writer),
      messages_(messages),
      counts_(counts),
      source_(input_.plan.roots.present),
      feed_(writer, messages, counts, input_.stop),
      stretched_(index, writer, feed_, input_.stretches_folder) {}

// ---- Lines

void EntryStore::put_unchanged(IndexEntry& entry, const IndexEntry& old) {
  bool differs = entry.inode != old.inode || entry.line.entry.ctime != old.line.entry.ctime ||
                 entry.unsure != old.unsure;
  if (!differs) return;
  entry.index_only = true;
  index_.journal_put(entry);
}

void EntryStore::put_entry_only(IndexEntry& entry) {
  auto held = carried_for(entry);
  const Entry& e = entry.line.entry;
  entry.line.tar_offset = held && same_state(entry, *held)
                              ? *held->line.tar_offset
                              : begin_entry(e.path, tar_entry_head(e), 0);
  index_.journal_put(entry);
}

std::uint64_t EntryStore::begin_entry(const std::string& path, std::string head,
                                      std::uint64_t content,
                                      std::shared_ptr<const LargeFile> file) {
  std::uint64_t offset = writer_.tar_offset();
  writer_.begin_entry(path, std::move(head), content + tar_padding(content), std::move(file));
  return offset;
}

void EntryStore::put_other_name(IndexEntry& entry, const IndexEntry& first, const IndexEntry* old) {
  Entry& e = entry.line.entry;
  e.holes = first.line.entry.holes;
  entry.line.digest = first.line.digest;
  entry.line.noise = first.line.noise;
  entry.unsure = first.unsure;
  counts_.bytes.seen += e.size;
  if (old != nullptr && same_state(entry, *old) && !is_lost(*old)) {
    ++counts_.files.same;
    return put_unchanged(entry, *old);
  }
  std::string holder = first.line.in_path.value_or(first.line.entry.path);
  entry.line.ranges = first.line.ranges;
  if (!first.line.in_set && first.line.ranges.empty())
    return put_linked(entry, holder, *first.line.tar_offset);
  entry.line.tar_offset = first.line.tar_offset;
  entry.line.in_set = first.line.in_set;
  if (first.line.ranges.empty()) entry.line.in_path = std::move(holder);
  ++counts_.files.copied;
  index_.journal_put(entry);
}

void EntryStore::put_linked(IndexEntry& entry, const std::string& holder, std::uint64_t offset) {
  Entry link = entry.line.entry;
  link.type = EntryType::kHardlink;
  link.target = holder;
  entry.link_offset = begin_entry(link.path, tar_entry_head(link), 0);
  entry.line.in_path = holder;
  entry.line.tar_offset = offset;
  ++counts_.files.copied;
  index_.journal_put(entry);
}

bool EntryStore::refer(IndexEntry& entry, const IndexEntry* old) {
  Entry& e = entry.line.entry;
  if (old != nullptr && old->line.digest == entry.line.digest && same_state(entry, *old) &&
      !is_lost(*old)) {
    ++counts_.files.same;
    put_unchanged(entry, *old);
    return true;
  }
  if (auto held = carried_for(entry); held && same_state(entry, *held)) {
    ++counts_.files.copied;
    carried_bytes_ += e.size;
    entry.line.tar_offset = held->line.tar_offset;
    index_.journal_put(entry);
    return true;
  }
  if (e.size == 0) return false;
  if (auto held = index_.find_content(e.size, *entry.line.digest, input_.plan.ancestors,
                                      input_.plan.damaged)) {
    bool retagged = old != nullptr && old->line.digest == entry.line.digest;
    ++(retagged ? counts_.files.same : counts_.files.moved);
    entry.moved = !retagged;
    if (held->ranges.empty()) {
      entry.line.in_set = held->set;
      entry.line.in_path = held->path;
      entry.line.tar_offset = held->tar_offset;
    } else {
      entry.line.ranges = held->ranges;
    }
    index_.journal_put(entry);
    return true;
  }
  auto duplicate = index_.journal_duplicate(e, *entry.line.digest, e.size < kAlwaysLinked);
  if (duplicate && duplicate->path != e.path) {
    put_linked(entry, duplicate->path, duplicate->tar_offset);
    return true;
  }
  return false;
}

void EntryStore::put_stored(IndexEntry& entry, std::uint64_t offset, std::uint64_t content_bytes) {
  entry.line.tar_offset = offset;
  ++counts_.files.copied;
  counts_.bytes.copied += content_bytes;
  index_.journal_put(entry);
}

// ---- Content

bool EntryStore::store_file(Fd& fd, const struct stat& st, IndexEntry& entry,
                            const IndexEntry* old) {
  std::uint64_t size = entry.line.entry.size;
  bool at_once = size <= kReadAtOnceUpTo && !is_stretched(size);
  return at_once ? store_small(fd, st, entry, old) : store_large(fd, entry, old, false);
}

bool EntryStore::store_small(Fd& fd, struct stat st, IndexEntry& entry, const IndexEntry* old) {
  Entry& e = entry.line.entry;
  std::span<std::uint8_t> buffer = feed_.buffer();
  std::size_t length = 0;
  bool steady = false;
  for (int attempt = 0; attempt < kReadTries && !steady; ++attempt) {
    length = 0;
    while (length < buffer.size()) {
      ssize_t n = read_some(fd.get(), length, buffer.subspan(length));
      if (n < 0) return fail(e.path, errno_text(errno)), false;
      length += static_cast<std::size_t>(n);
      if (n == 0 || length == static_cast<std::uint64_t>(st.st_size)) break;
    }
    struct stat after {};
    if (::fstat(fd.get(), &after) != 0) return fail(e.path, errno_text(errno)), false;
    steady = same_stat(st, after) && length == static_cast<std::uint64_t>(st.st_size);
    if (!steady) st = after;
  }
  if (length > kReadAtOnceUpTo) {  // it grew beyond a block: it is a large file now
    e.size = static_cast<std::uint64_t>(st.st_size);
    return store_large(fd, entry, old, false);
  }
  if (!steady) warn(e.path, "changed while it was read; stored as last read");
  counts_.bytes.seen += length;
  counts_.bytes.seen -= e.size;
  e.size = length;
  e.mtime = FileTime(st.st_mtim);
  e.ctime = FileTime(st.st_ctim);
  entry.unsure = !steady || is_unsure(e.mtime, e.ctime, fd.get());
  auto runs = data_runs(fd.get(), st);
  if (!steady) runs.reset();
  return store_content(buffer.first(length), runs, entry, old);
}

bool EntryStore::store_read(const FileAhead& file, IndexEntry& entry, const IndexEntry* old) {
  entry.unsure = file.unsure;
  return store_content(file.content, std::nullopt, entry, old);
}

bool EntryStore::store_content(ByteView content, const std::optional<std::vector<DataRun>>& runs,
                               IndexEntry& entry, const IndexEntry* old) {
  Entry& e = entry.line.entry;
  std::size_t length = content.size();
  entry.line.digest = digest_of(content);
  entry.line.noise = looks_like_noise(content.first(std::min(length, kNoiseHead)));
  e.holes = runs.has_value();
  if (refer(entry, old)) return true;
  std::uint64_t offset = 0;
  if (e.holes) {
    std::uint64_t stored = 0;
    for (const DataRun& run : *runs) stored += run.length;
    offset = begin_entry(e.path, tar_entry_head(e, *runs), stored);
    for (const DataRun& run : *runs) writer_.append(content.subspan(run.offset, run.length));
    writer_.append_zeros(tar_padding(stored));
  } else {
    offset = begin_entry(e.path, tar_entry_head(e), length);
    writer_.append(content);
    writer_.append_zeros(tar_padding(length));
  }
  put_stored(entry, offset, length);
  return true;
}

bool EntryStore::store_large(Fd& fd, IndexEntry& entry, const IndexEntry* old, bool last_try) {
  Entry& e = entry.line.entry;
  struct stat before {
  }, after{};
  if (::fstat(fd.get(), &before) != 0) return fail(e.path, errno_text(errno)), false;
  counts_.bytes.seen += static_cast<std::uint64_t>(before.st_size) - e.size;
  e.size = static_cast<std::uint64_t>(before.st_size);
  e.mtime = FileTime(before.st_mtim);
  e.ctime = FileTime(before.st_ctim);
  auto runs = data_runs(fd.get(), before);
  std::vector<DataRun> without_holes = {{0, e.size}};
  const std::vector<DataRun>& data = runs ? *runs : without_holes;
  e.holes = runs.has_value();
  entry.line.noise = begins_like_noise(fd.get());
  std::uint64_t stored = 0;
  for (const DataRun& run : data) stored += run.length;
  if (e.size - std::min(e.size, stored) > kMostHoles) {
    return fail(e.path, "it has more than 64 TiB of holes"), false;
  }

  StretchSource source(index_, input_.plan);
  bool stretched =
      !input_.plan.is_full() && is_stretched(e.size) && data.size() <= kMostStretchedRuns;
  bool in_place = false;  // most likely an edit of what the base holds
  if (stretched && old != nullptr) {
    auto held = index_.location_of(old->version, input_.plan.ancestors);
    if (held) source.follow(ranges_of(*held));
    in_place = old->line.entry.size == e.size && source.expected() != nullptr;
  }

  // Known content of this size makes it worth a look before it is stored. Beyond what the page
  // cache keeps for the second reading, the time must agree too.
  std::optional<FileTime> mtime;
  if (e.size > kDigestFirstBySizeUpTo) mtime = e.mtime;
  bool likely_known = (!input_.plan.ancestors.empty() && index_.has_size(e.size, mtime)) ||
                      index_.journal_has_size(e.size, mtime);
  if (auto held = carried(e.path)) likely_known |= held->line.entry.size == e.size;
  if (likely_known && !in_place) {
    Digester digester;
    ContentFeed::Read read = feed_.read(fd, {e, data}, digester);
    bool steady = read.complete && ::fstat(fd.get(), &after) == 0 && same_stat(before, after);
    entry.line.digest = digester.finish();
    entry.unsure = is_unsure(e.mtime, e.ctime, fd.get());
    if (steady && refer(entry, old)) return true;
  }

  if (!stretched) return store_whole(fd, before, data, entry, last_try);
  StretchedFiles::Stored read = stretched_.store(fd, e, data, source);
  if (read.error != 0) return fail(e.path, errno_text(read.error)), false;
  bool steady = read.complete && ::fstat(fd.get(), &after) == 0 && same_stat(before, after);
  if (steady && read.stored == 0) {  // as a whole, it may be known
    entry.line.digest = read.digest;
    entry.unsure = is_unsure(e.mtime, e.ctime, fd.get());
    if (refer(entry, old)) return true;
  }
  put_stretches(fd, before, std::move(read), steady, entry, last_try);
  return true;
}

// As an entry of its own name. A full set lists its stretches, for the sets that follow.
bool EntryStore::store_whole(Fd& fd, const struct stat& before, const std::vector<DataRun>& data,
                             IndexEntry& entry, bool last_try) {
  Entry& e = entry.line.entry;
  std::uint64_t stored = 0;
  for (const DataRun& run : data) stored += run.length;
  std::shared_ptr<const LargeFile> file;
  if (!e.holes) {
    file = std::make_shared<LargeFile>(LargeFile{e.path, e.size, before.st_ino, e.mtime, e.ctime});
  }
  std::uint64_t offset = begin_entry(e.path, tar_entry_head(e, data), stored, std::move(file));
  std::optional<ListedContent> listed;
  if (is_stretched(e.size)) listed.emplace(index_, offset, e.path);
  Digester digester;
  ContentFeed::Read read =
      feed_.read(fd, {e, data, 0, true, listed ? &*listed : nullptr}, digester);
  writer_.append_zeros(tar_padding(stored));
  if (read.error != 0) {
    index_.journal_dead({offset, e.path, DeadEntry::Why::kReadError});
    return fail(e.path, errno_text(read.error)), false;
  }
  if (listed) listed->finish();
  struct stat after {};
  bool steady = read.complete && ::fstat(fd.get(), &after) == 0 && same_stat(before, after);
  entry.line.digest = digester.finish();
  entry.line.ranges.clear();
  entry.line.in_set.reset();
  entry.line.in_path.reset();
  entry.line.tar_offset = offset;
  counts_.bytes.copied += e.size;
  put_read(fd, steady, entry, last_try);
  return true;
}

void EntryStore::put_stretches(Fd& fd, const struct stat& before, StretchedFiles::Stored read,
                               bool steady, IndexEntry& entry, bool last_try) {
  Entry& e = entry.line.entry;
  counts_.bytes.seen -= e.size - read.size;
  e.size = read.size;
  entry.line.tar_offset.reset();
  entry.line.in_set.reset();
  entry.line.in_path.reset();
  entry.line.ranges.clear();
  if (e.size == 0) {  // it was emptied meanwhile
    e.holes = false;
    store_whole(fd, before, {}, entry, last_try);
    return;
  }
  entry.line.digest = read.digest;
  entry.line.ranges = std::move(read.ranges);
  counts_.bytes.copied += read.stored;
  put_read(fd, steady, entry, last_try);
}

// Puts the line of a file that was read once, and perhaps changed meanwhile.
void EntryStore::put_read(Fd& fd, bool steady, IndexEntry& entry, bool last_try) {
  const Entry& e = entry.line.entry;
  entry.unsure = !steady || is_unsure(e.mtime, e.ctime, fd.get());
  entry.unsettled = !steady && !last_try;
  ++counts_.files.copied;
  index_.journal_put(entry);
  if (entry.unsettled) {
    changed_.push_back(entry);
  } else if (!steady) {
    warn(e.path, "changed while it was read; stored as last read");
  }
}

// Files that changed while they were read are stored once more, behind everything else, as long as
// what does not count then stays small beside the set.
void EntryStore::store_changed_again() {
  for (int attempt = 1; attempt < kReadTries && !changed_.empty(); ++attempt) {
    std::vector<IndexEntry> again;
    again.swap(changed_);
    for (IndexEntry& entry : again) {
      bool last_try = attempt + 1 == kReadTries;
      if (!store_again(entry, last_try)) {
        entry.unsettled = false;  // what was read before is its content
        index_.journal_put(entry);
      }
    }
  }
}

// False if the entry that is there has to do, which has been told.
bool EntryStore::store_again(IndexEntry& entry, bool last_try) {
  const std::string path = entry.line.entry.path;
  if (!entry.line.ranges.empty() || is_stretched(entry.line.entry.size)) {
    return store_changes_again(entry, last_try);
  }
  std::uint64_t dead = dead_bytes_ + entry.line.entry.size;
  if (dead > std::max(kDeadBytes, writer_.tar_offset() / kDeadShare)) {
    warn(path, "changed while it was read; stored as read");
    return false;
  }
  Fd fd = source_.open_file(path);
  struct stat st {};
  if (!fd || ::fstat(fd.get(), &st) != 0 ||
      !can_be_read(fd, static_cast<std::uint64_t>(st.st_size))) {
    warn(path, "changed while it was read, then could not be read again");
    return false;
  }
  dead_bytes_ = dead;
  --counts_.files.copied;
  counts_.bytes.copied -= entry.line.entry.size;
  entry.inode = st.st_ino;
  entry.unsettled = false;
  index_.journal_dead({*entry.line.tar_offset, path, DeadEntry::Why::kChanged});
  // A line must not lead to an entry that this name hides in the tar from now on.
  index_.journal_drop(path);
  store_large(fd, entry, nullptr, last_try);
  return true;
}

// What it holds of the file counts, wherever that lies, and only what changed is stored.
bool EntryStore::store_changes_again(IndexEntry& entry, bool last_try) {
  Entry& e = entry.line.entry;
  if (dead_bytes_ > std::max(kDeadBytes, writer_.tar_offset() / kDeadShare)) {
    warn(e.path, "changed while it was read; stored as read");
    return false;
  }
  Fd fd = source_.open_file(e.path);
  struct stat st {};
  if (!fd || ::fstat(fd.get(), &st) != 0 || !S_ISREG(st.st_mode)) {
    warn(e.path, "changed while it was read, then could not be read again");
    return false;
  }
  // It grew to more than a ledger's line has pieces for: the next run stores it whole.
  if (static_cast<std::uint64_t>(st.st_size) > kMostStretched) {
    warn(e.path, "changed while it was read; stored as read");
    return false;
  }
  StretchSource source(index_, input_.plan);
  source.follow(entry.line.ranges.empty()
                    ? std::vector{whole_entry(std::nullopt, *entry.line.tar_offset)}
                    : entry.line.ranges);
  IndexEntry again = entry;
  Entry& now = again.line.entry;
  now.size = static_cast<std::uint64_t>(st.st_size);
  now.mtime = FileTime(st.st_mtim);
  now.ctime = FileTime(st.st_ctim);
  again.inode = st.st_ino;
  again.unsettled = false;
  auto runs = data_runs(fd.get(), st);
  if (runs && runs->size() > kMostStretchedRuns) runs.reset();  // its holes are read as zeros
  now.holes = runs.has_value();
  std::vector<DataRun> data = runs ? *runs : std::vector<DataRun>{{0, now.size}};
  again.line.noise = begins_like_noise(fd.get());
  StretchedFiles::Stored read = stretched_.store(fd, now, data, source);
  if (read.error != 0) {
    warn(e.path, "changed while it was read, then could not be read again");
    return false;
  }
  dead_bytes_ += read.stored;
  --counts_.files.copied;
  counts_.bytes.seen += now.size - e.size;
  struct stat after {};
  bool steady = read.complete && ::fstat(fd.get(), &after) == 0 && same_stat(st, after);
  put_stretches(fd, st, std::move(read), steady, again, last_try);
  return true;
}

// What breaks off in the middle would hide the entry that is there. No further than `size`, however
// the file grows meanwhile.
bool EntryStore::can_be_read(Fd& fd, std::uint64_t size) {
  for (std::uint64_t at = 0; at < size;) {
    feed_.check_stop();
    ssize_t n = read_some(fd.get(), at, feed_.buffer());
    if (n < 0) return false;
    if (n == 0) break;
    at += static_cast<std::uint64_t>(n);
  }
  return true;
}

// ---- What an interrupted run left

std::optional<IndexEntry> EntryStore::carried(const std::string& path, std::uint64_t link_group) {
  auto held = input_.cut ? index_.carried(path) : std::nullopt;
  if (held) held->line.entry.link_group = link_group;
  return held;
}

std::optional<IndexEntry> EntryStore::carried_for(const IndexEntry& entry) {
  auto held = carried(entry.line.entry.path, entry.line.entry.link_group);
  if (held) {
    held->line.disk = entry.line.disk;
    held->line.mount = entry.line.mount;
  }
  return held;
}

void EntryStore::put_carried(IndexEntry& entry, std::uint64_t inode) {
  std::uint64_t size = entry.line.entry.size;
  ++counts_.files.seen;
  ++counts_.files.copied;
  counts_.bytes.seen += size;
  carried_bytes_ += size;
  entry.inode = inode;
  index_.journal_put(entry);
}

void EntryStore::finish_cut_entry() {
  if (!input_.cut) return;
  bool listed = input_.plan.is_full() && input_.cut->file && is_stretched(input_.cut->file->size);
  finished_bytes_ =
      kestrum::finish_cut_entry(*input_.cut, index_, writer_, feed_, owners_, source_, listed);
  counts_.bytes.copied += finished_bytes_;
}

// ---- Telling

void EntryStore::warn(const std::string& path, const std::string& reason) {
  messages_.warn("/" + path, reason);
}

void EntryStore::fail(const std::string& path, const std::string& reason) {
  ++counts_.files.failed;
  counts_.unread.add(path);
  warn(path, reason);
}

}  // namespace kestrum
