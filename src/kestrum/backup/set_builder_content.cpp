// Reading a file, finding out whether its content is held already, and storing it.
#include <fcntl.h>

#include <algorithm>
#include <cerrno>

#include "kestrum/archive/tar.h"
#include "kestrum/backup/set_builder.h"
#include "kestrum/base/error.h"
#include "kestrum/machine/index_rows.h"

namespace kestrum {
namespace {

constexpr int kReadTries = 3;  // for a file that changes while it is read
// Smaller files of the same content become links in the tar only where their metadata is the same
// too: plain tar then gives them their own times and modes, and inside a compressed block a small
// repetition costs next to nothing.
constexpr std::uint64_t kAlwaysLinked = 64 << 10;

constexpr std::uint64_t kCachedReading = 1 << 30;

}  // namespace

void SetBuilder::put_unchanged(IndexEntry& entry, const IndexEntry& old) {
  bool differs = entry.inode != old.inode || entry.line.entry.ctime != old.line.entry.ctime ||
                 entry.unsure != old.unsure;
  if (!differs) return;
  entry.index_only = true;
  index_.journal_put(entry);
}

void SetBuilder::put_entry_only(IndexEntry& entry) {
  auto held = carried(entry.line.entry.path);
  entry.line.tar_offset = held && same_state(entry, *held)
                              ? *held->line.tar_offset
                              : begin_entry(tar_entry_head(entry.line.entry), 0);
  index_.journal_put(entry);
}

std::uint64_t SetBuilder::begin_entry(const std::string& head, std::uint64_t content,
                                      std::shared_ptr<const LargeFile> file) {
  std::uint64_t offset = writer_.tar_offset();
  writer_.begin_entry(head.size() + content + tar_padding(content), std::move(file));
  writer_.append(as_bytes(head));
  return offset;
}

bool SetBuilder::refer(IndexEntry& entry, const IndexEntry* old) {
  Entry& e = entry.line.entry;
  if (old != nullptr && old->line.digest == entry.line.digest && same_state(entry, *old) &&
      !is_lost(*old)) {
    ++result_.files.same;
    put_unchanged(entry, *old);
    return true;
  }
  if (auto held = carried(e.path); held && same_state(entry, *held)) {
    ++result_.files.copied;
    carried_bytes_ += e.size;
    entry.line.tar_offset = held->line.tar_offset;
    index_.journal_put(entry);
    return true;
  }
  if (e.size == 0) return false;
  if (auto held = index_.find_content(e.size, *entry.line.digest, input_.plan.ancestors,
                                      input_.plan.damaged)) {
    bool retagged = old != nullptr && old->line.digest == entry.line.digest;
    ++(retagged ? result_.files.same : result_.files.moved);
    entry.moved = !retagged;
    entry.line.in_set = held->set;
    entry.line.in_path = held->path;
    entry.line.tar_offset = held->tar_offset;
    index_.journal_put(entry);
    return true;
  }
  auto duplicate = index_.journal_duplicate(e, *entry.line.digest);
  if (duplicate && duplicate->location.path != e.path &&
      (duplicate->alike || e.size >= kAlwaysLinked)) {
    Entry link = e;
    link.type = EntryType::kHardlink;
    link.target = duplicate->location.path;
    begin_entry(tar_entry_head(link), 0);
    entry.line.in_path = duplicate->location.path;
    entry.line.tar_offset = duplicate->location.tar_offset;
    ++result_.files.copied;
    index_.journal_put(entry);
    return true;
  }
  return false;
}

void SetBuilder::put_stored(IndexEntry& entry, std::uint64_t offset, std::uint64_t content_bytes) {
  entry.line.tar_offset = offset;
  ++result_.files.copied;
  result_.bytes.copied += content_bytes;
  index_.journal_put(entry);
}

bool SetBuilder::store_small(Fd& fd, struct stat st, IndexEntry& entry, const IndexEntry* old) {
  Entry& e = entry.line.entry;
  std::size_t length = 0;
  bool steady = false;
  for (int attempt = 0; attempt < kReadTries && !steady; ++attempt) {
    length = 0;
    while (length < buffer_.size()) {
      ssize_t n = read_some(fd.get(), length, std::span(buffer_).subspan(length));
      if (n < 0) return fail(e.path, errno_text(errno)), false;
      length += static_cast<std::size_t>(n);
      if (n == 0 || length == static_cast<std::uint64_t>(st.st_size)) break;
    }
    struct stat after {};
    if (::fstat(fd.get(), &after) != 0) return fail(e.path, errno_text(errno)), false;
    steady = same_stat(st, after) && length == static_cast<std::uint64_t>(st.st_size);
    if (!steady) st = after;
  }
  if (length > kFrameSize) {  // it grew beyond a block: it is a large file now
    e.size = static_cast<std::uint64_t>(st.st_size);
    return store_large(fd, entry, old, false);
  }
  if (!steady) warn(e.path, "changed while it was read; stored as last read");
  result_.bytes.seen += length;
  result_.bytes.seen -= e.size;
  e.size = length;
  e.mtime = to_nanos(st.st_mtim);
  e.ctime = to_nanos(st.st_ctim);
  entry.unsure = !steady || is_unsure(e);
  ByteView content(buffer_.data(), length);
  entry.line.digest = digest_of(content);
  if (refer(entry, old)) return true;
  std::uint64_t offset = 0;
  auto runs = data_runs(fd.get(), st);
  if (runs && steady) {
    e.holes = true;
    std::uint64_t stored = 0;
    for (const DataRun& run : *runs) stored += run.length;
    offset = begin_entry(tar_entry_head(e, *runs), stored);
    for (const DataRun& run : *runs) writer_.append(content.subspan(run.offset, run.length));
    writer_.append_zeros(tar_padding(stored));
  } else {
    offset = begin_entry(tar_entry_head(e), length);
    writer_.append(content);
    writer_.append_zeros(tar_padding(length));
  }
  put_stored(entry, offset, length);
  return true;
}

bool SetBuilder::store_large(Fd& fd, IndexEntry& entry, const IndexEntry* old, bool last_try) {
  Entry& e = entry.line.entry;
  struct stat before {
  }, after{};
  if (::fstat(fd.get(), &before) != 0) return fail(e.path, errno_text(errno)), false;
  result_.bytes.seen += static_cast<std::uint64_t>(before.st_size) - e.size;
  e.size = static_cast<std::uint64_t>(before.st_size);
  e.mtime = to_nanos(before.st_mtim);
  e.ctime = to_nanos(before.st_ctim);
  auto runs = data_runs(fd.get(), before);
  std::vector<DataRun> without_holes = {{0, e.size}};
  const std::vector<DataRun>& data = runs ? *runs : without_holes;
  e.holes = runs.has_value();
  std::uint64_t stored = 0;
  for (const DataRun& run : data) stored += run.length;
  if (e.size - std::min(e.size, stored) > kMostHoles) {
    return fail(e.path, "it has more than 64 TiB of holes"), false;
  }

  int error = 0;
  // Known content of this size makes it worth a look before it is stored. Beyond what the page
  // cache keeps for the second reading, the time must agree too.
  std::optional<Nanos> mtime;
  if (e.size > kCachedReading) mtime = e.mtime;
  bool likely_known = (!input_.plan.ancestors.empty() && index_.has_size(e.size, mtime)) ||
                      index_.journal_has_size(e.size, mtime);
  if (auto held = carried(e.path)) likely_known |= held->line.entry.size == e.size;
  if (likely_known) {
    Digester digester;
    bool complete = read_content(fd, e, data, 0, digester, false, error);
    bool steady = complete && ::fstat(fd.get(), &after) == 0 && same_stat(before, after);
    entry.line.digest = digester.finish();
    entry.unsure = is_unsure(e);
    if (steady && refer(entry, old)) return true;
    error = 0;
  }

  std::shared_ptr<const LargeFile> file;
  if (!e.holes) {
    file = std::make_shared<LargeFile>(LargeFile{e.path, e.size, before.st_ino, e.mtime, e.ctime});
  }
  std::uint64_t offset = begin_entry(tar_entry_head(e, data), stored, std::move(file));
  Digester digester;
  bool complete = read_content(fd, e, data, 0, digester, true, error);
  large_left_ = 0;
  writer_.append_zeros(tar_padding(stored));
  if (error != 0) return fail(e.path, errno_text(error)), false;
  bool steady = complete && ::fstat(fd.get(), &after) == 0 && same_stat(before, after);
  entry.line.digest = digester.finish();
  entry.unsure = !steady || is_unsure(e);
  entry.line.in_set.reset();
  entry.line.in_path.reset();
  put_stored(entry, offset, e.size);
  if (!steady) {
    if (last_try) {
      warn(e.path, "changed while it was read; stored as last read");
    } else {
      changed_.push_back(entry);
    }
  }
  return true;
}

bool SetBuilder::read_content(Fd& fd, const Entry& e, const std::vector<DataRun>& data,
                              std::uint64_t from, Digester& digester, bool store, int& error) {
  std::uint64_t at = from;
  bool complete = true;
  for (const DataRun& run : data) {
    std::uint64_t end = run.offset + run.length;
    if (end <= at && run.length > 0) continue;
    if (run.offset > at) {
      digester.update_zeros(run.offset - at, [this] { check_stop(); });
      at = run.offset;
    }
    while (at < end) {
      check_stop();
      std::span<std::uint8_t> room = store ? writer_.space() : std::span(buffer_).first(1 << 20);
      room = room.first(std::min<std::uint64_t>({room.size(), end - at, 1 << 20}));
      ssize_t n = complete ? read_some(fd.get(), at, room) : 0;
      if (n < 0) error = errno;
      if (n <= 0) {  // the header has promised so many bytes: zeros stand in, and it is not used
        complete = false;
        std::fill(room.begin(), room.end(), 0);
        n = static_cast<ssize_t>(room.size());
      }
      auto got = static_cast<std::size_t>(n);
      digester.update(room.first(got));
      if (store) {
        writer_.advance(got);
        if (writer_.at_block_end()) writer_.note_content(digester.finish());
        large_left_ = e.size - at - got;
      }
      at += got;
      report_progress(e.path);
    }
  }
  digester.update_zeros(e.size - at, [this] { check_stop(); });
  return complete;
}

// Files that changed while they were read are stored once more, behind everything else: the last
// entry of a name counts.
void SetBuilder::store_changed_again() {
  for (int attempt = 1; attempt < kReadTries && !changed_.empty(); ++attempt) {
    std::vector<IndexEntry> again;
    again.swap(changed_);
    for (IndexEntry& entry : again) {
      std::string path = "/" + entry.line.entry.path;
      Fd fd(::open(path.c_str(), O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC));
      struct stat st {};
      if (!fd || ::fstat(fd.get(), &st) != 0 || !S_ISREG(st.st_mode)) {
        warn(entry.line.entry.path, "changed while it was read, then could not be read again");
        continue;
      }
      --result_.files.copied;
      result_.bytes.copied -= entry.line.entry.size;
      entry.inode = st.st_ino;
      if (!store_large(fd, entry, nullptr, attempt + 1 == kReadTries)) {
        // fail() counted it; what was read before stays its line.
        --result_.files.failed;
        ++result_.files.copied;
        result_.bytes.copied += entry.line.entry.size;
      }
    }
  }
}

}  // namespace kestrum
