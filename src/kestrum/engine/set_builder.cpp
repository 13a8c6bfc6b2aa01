#include "kestrum/engine/set_builder.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/select/path_order.h"
#include "kestrum/shelf/index_rows.h"

namespace kestrum {
namespace {

constexpr int kReadTries = 3;  // for a file that changes while it is read
constexpr Nanos kTick = 2 * kSecond;
// Smaller files of the same content become links in the tar only where their metadata is the same
// too: plain tar then gives them their own times and modes, and inside a compressed block a small
// repetition costs next to nothing.
constexpr std::uint64_t kAlwaysLinked = 64 << 10;

constexpr std::uint64_t kCachedReading = 1 << 30;

bool is_as_it_was(const LargeFile& file, const struct stat& st) {
  return static_cast<std::uint64_t>(st.st_size) == file.size && st.st_ino == file.inode &&
         to_nanos(st.st_mtim) == file.mtime && to_nanos(st.st_ctim) == file.ctime;
}

bool is_unsure(const Entry& entry) {
  Nanos now = real_now();
  auto near = [&](Nanos time) { return time > now - kTick && time < now + kTick; };
  return near(entry.mtime) || near(entry.ctime);
}

}  // namespace

SetBuilder::SetBuilder(SetBuilderInput input, const Selection& selection, Index& index,
                       SetWriter& writer, RunReport& report, Observer& observer, StopRequest stop)
    : input_(std::move(input)),
      selection_(selection),
      index_(index),
      writer_(writer),
      report_(report),
      observer_(observer),
      stop_(std::move(stop)),
      walk_(input_.roots, selection_),
      listings_(input_.absent_roots),
      tally_(index, input_.compared_with),
      buffer_(kFrameSize + 1) {
  progress_.phase = "copying";
}

void SetBuilder::build() {
  if (input_.cut) finish_cut_entry(*input_.cut);
  std::optional<Index::Cursor> known;
  IndexEntry old;
  bool have_old = false;
  auto next_known = [&] {
    have_old = known->next(old);
    if (have_old) tally_.known(old);
  };
  if (input_.compared_with) {
    known.emplace(index_.state_at(*input_.compared_with));
    next_known();
  }
  WalkEvent event;
  while (walk_.next(event)) {
    check_stop();
    while (have_old && compare_paths(old.line.entry.path, event.path) < 0) {
      handle_unseen(old);
      next_known();
    }
    if (event.is_root) leave_root(event.path);
    bool matches = have_old && old.line.entry.path == event.path;
    handle_seen(event, matches ? &old : nullptr);
    if (matches) next_known();
    report_progress(event.path);
  }
  while (have_old) {
    check_stop();
    handle_unseen(old);
    next_known();
  }
  known.reset();
  leave_root(std::nullopt);
  store_changed_again();
  std::uint64_t moves = index_.journal_moves();
  report_.files.gone -= std::min(report_.files.gone, moves);
  tally_.moved(moves);
  for (const auto& [path, files] : absent_below_) {
    if (files > 0) {
      observer_.note(fmt::format("{} below {} kept as last seen", counted(files, "file"), path));
    }
  }
}

// A folder that yields nothing is more often a mistake than meant.
void SetBuilder::leave_root(const std::optional<std::string>& next) {
  bool silent =
      report_.files.seen == seen_before_root_ && report_.warning_count == warnings_before_root_;
  if (root_ && silent) {
    warn(*root_, report_.files.left_out > left_out_before_root_ || folder_left_out_
                     ? "nothing is copied from this folder: the rules leave out all of it"
                     : "nothing is copied from this folder: it holds no files");
  }
  if (root_ && report_.files.seen == seen_before_root_ && gone_from_root_ > 0) {
    tally_.emptied("/" + *root_);
  }
  root_ = next;
  gone_from_root_ = 0;
  folder_left_out_ = false;
  seen_before_root_ = report_.files.seen;
  left_out_before_root_ = report_.files.left_out;
  warnings_before_root_ = report_.warning_count;
}

// ---- What is not there

void SetBuilder::handle_unseen(const IndexEntry& old) {
  bool is_file = old.line.entry.type != EntryType::kFolder;
  IndexEntry entry;
  entry.line.entry.path = old.line.entry.path;
  switch (listings_.above(old.line.entry.path)) {
    case Listing::kUnknown:
      report_.files.absent += is_file;
      if (is_file) {
        ++absent_below_["/" + listings_.folder()];
      }
      return;  // no line: it stays what it was
    case Listing::kLeftOut:
      report_.files.left_out += is_file;
      entry.line.entry.type = EntryType::kLeftOut;
      break;
    default:
      report_.files.gone += is_file;
      gone_from_root_ += is_file;
      tally_.gone(old);
      entry.line.entry.type = EntryType::kGone;
      // Remembered in the journal to tell a move from a loss; the ledger line does not show it.
      entry.line.entry.size = old.line.entry.size;
      entry.line.digest = old.line.digest;
  }
  // A full set has no base to take anything away from; only the index learns it.
  entry.index_only = input_.kind == SetKind::kFull;
  index_.journal_put(entry);
}

void SetBuilder::note_vanished(const IndexEntry* old) {
  if (old != nullptr) handle_unseen(*old);
}

// ---- What is there

void SetBuilder::handle_seen(const WalkEvent& event, const IndexEntry* old) {
  switch (event.kind) {
    case WalkEvent::Kind::kUnknown: {
      bool listed_but_gone = event.error == ENOENT && !event.is_root;
      if (listed_but_gone) return note_vanished(old);
      listings_.enter(event.path, Listing::kUnknown);
      warn(event.path, event.is_root && event.error == ENOENT ? "this folder is not there"
                                                              : errno_text(event.error));
      if (old != nullptr) handle_unseen(*old);
      return;
    }
    case WalkEvent::Kind::kLeftOut: {
      listings_.enter(event.path, Listing::kLeftOut);
      RuleCount& count = report_.left_out[static_cast<std::size_t>(event.rule)];
      bool is_file = S_ISREG(event.st.st_mode);
      if (event.rule != Rule::kOwn) {
        folder_left_out_ |= S_ISDIR(event.st.st_mode);
        ++(S_ISDIR(event.st.st_mode) ? count.folders : count.files);
        if (is_file) count.bytes += static_cast<std::uint64_t>(event.st.st_size);
      }
      if (old != nullptr) {
        handle_unseen(*old);
      } else if (!S_ISDIR(event.st.st_mode)) {
        ++report_.files.left_out;
      }
      return;
    }
    case WalkEvent::Kind::kEntry:
      break;
  }
  if (S_ISDIR(event.st.st_mode)) return handle_folder(event, old);
  listings_.enter(event.path, Listing::kNotAFolder);
  if (S_ISREG(event.st.st_mode)) return handle_file(event, old);
  handle_other(event, old);
}

Entry SetBuilder::describe(const WalkEvent& event) {
  Entry entry;
  entry.path = event.path;
  entry.mtime = to_nanos(event.st.st_mtim);
  entry.ctime = to_nanos(event.st.st_ctim);
  entry.mode = event.st.st_mode & 07777;
  entry.uid = event.st.st_uid;
  entry.gid = event.st.st_gid;
  entry.user = owners_.user(entry.uid);
  entry.group = owners_.group(entry.gid);
  return entry;
}

void SetBuilder::handle_folder(const WalkEvent& event, const IndexEntry* old) {
  bool was_mount = old != nullptr && old->line.entry.type == EntryType::kFolder && old->line.mount;
  if (was_mount && !event.mount && event.empty) {
    listings_.enter(event.path, Listing::kUnknown);
    warn(event.path, "a disk was mounted here and is not now");
    return;  // no line for the folder either, or the next run would not know of the disk
  }
  if (event.listing_error != 0) {
    listings_.enter(event.path, Listing::kUnknown);
    warn(event.path, "this folder cannot be read: " + errno_text(event.listing_error));
  } else {
    listings_.enter(event.path, event.contents_left_out ? Listing::kLeftOut : Listing::kComplete);
  }
  if (event.contents_left_out) {
    ++report_.left_out[static_cast<std::size_t>(Rule::kOtherFilesystem)].folders;
  }
  bool comparable = old != nullptr && input_.kind != SetKind::kFull &&
                    old->line.entry.type == EntryType::kFolder && old->line.mount == event.mount;
  if (comparable && detector_.unchanged(event.path, event.st, *old)) return;
  IndexEntry entry;
  entry.line.entry = describe(event);
  entry.line.entry.type = EntryType::kFolder;
  entry.line.entry.xattrs = walk_.xattrs();
  entry.line.mount = event.mount;
  entry.inode = event.st.st_ino;
  if (comparable && same_state(entry, *old)) return put_unchanged(entry, *old);
  put_entry_only(entry);
}

void SetBuilder::handle_other(const WalkEvent& event, const IndexEntry* old) {
  IndexEntry entry;
  Entry& e = entry.line.entry;
  e = describe(event);
  entry.inode = event.st.st_ino;
  ++report_.files.seen;
  if (S_ISLNK(event.st.st_mode)) {
    e.type = EntryType::kLink;
    if (!walk_.read_link(e.target)) return fail(event.path, errno_text(errno));
  } else if (S_ISFIFO(event.st.st_mode)) {
    e.type = EntryType::kFifo;
  } else {
    e.type = EntryType::kDevice;
    e.block_device = S_ISBLK(event.st.st_mode);
    e.device_major = gnu_dev_major(event.st.st_rdev);
    e.device_minor = gnu_dev_minor(event.st.st_rdev);
  }
  e.xattrs = walk_.xattrs();
  if (old != nullptr && input_.kind != SetKind::kFull && same_state(entry, *old)) {
    ++report_.files.same;
    return put_unchanged(entry, *old);
  }
  ++report_.files.copied;
  put_entry_only(entry);
}

bool SetBuilder::handle_hardlink(const WalkEvent& event, const IndexEntry* old) {
  auto first = index_.first_link(event.st.st_dev, event.st.st_ino, event.path);
  if (!first) return false;
  ++report_.files.seen;
  IndexEntry entry;
  Entry& e = entry.line.entry;
  e = describe(event);
  e.type = EntryType::kHardlink;
  e.target = *first;
  entry.inode = event.st.st_ino;
  if (old != nullptr && input_.kind != SetKind::kFull && same_state(entry, *old)) {
    ++report_.files.same;
    put_unchanged(entry, *old);
    return true;
  }
  ++report_.files.copied;
  if (index_.journal_holds(*first)) {
    put_entry_only(entry);
  } else {
    index_.journal_put(entry);  // what it links to is not in this tar, so the link is not either
  }
  return true;
}

void SetBuilder::handle_file(const WalkEvent& event, const IndexEntry* old) {
  if (old == nullptr && selection_.too_old(to_nanos(event.st.st_mtim), input_.now)) {
    RuleCount& count = report_.left_out[static_cast<std::size_t>(Rule::kChangedWithin)];
    ++count.files;
    ++report_.files.left_out;
    count.bytes += static_cast<std::uint64_t>(event.st.st_size);
    return;
  }
  if (event.st.st_nlink > 1 && handle_hardlink(event, old)) return;
  auto size = static_cast<std::uint64_t>(event.st.st_size);
  bool was_file = old != nullptr && old->line.entry.type == EntryType::kFile;
  const IndexEntry* base = was_file && input_.kind != SetKind::kFull ? old : nullptr;
  if (base != nullptr && !input_.reread && detector_.unchanged(event.path, event.st, *base)) {
    ++report_.files.seen;
    ++report_.files.same;
    report_.bytes.seen += size;
    return;
  }
  if (auto held = carried(event.path); held && held->line.entry.type == EntryType::kFile &&
                                       !input_.reread &&
                                       detector_.unchanged(event.path, event.st, *held)) {
    return take_carried(event, *held, was_file ? old : nullptr);
  }
  Fd fd = walk_.open_file();
  struct stat st {};
  if (!fd || ::fstat(fd.get(), &st) != 0 || !S_ISREG(st.st_mode)) {
    if (!fd && errno == ENOENT) return note_vanished(old);
    int error = fd ? ESTALE : errno;
    if (event.st.st_nlink > 1) index_.forget_link(event.st.st_dev, event.st.st_ino);
    ++report_.files.seen;
    report_.bytes.seen += size;
    return fail(event.path, errno_text(error));
  }
  WalkEvent opened = event;
  opened.st = st;
  IndexEntry entry;
  entry.line.entry = describe(opened);
  entry.line.entry.xattrs = file_xattrs(fd.get());
  entry.line.entry.size = static_cast<std::uint64_t>(st.st_size);
  entry.inode = st.st_ino;
  ++report_.files.seen;
  report_.bytes.seen += entry.line.entry.size;
  bool stored = entry.line.entry.size <= kFrameSize ? store_small(fd, st, entry, base)
                                                    : store_large(fd, entry, base, false);
  if (!stored && event.st.st_nlink > 1) index_.forget_link(event.st.st_dev, event.st.st_ino);
  if (was_file) tally_.changed(*old, entry, fd.get());
}

// ---- Content

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
  if (old != nullptr && old->line.digest == entry.line.digest && same_state(entry, *old)) {
    ++report_.files.same;
    put_unchanged(entry, *old);
    return true;
  }
  if (auto held = carried(e.path); held && same_state(entry, *held)) {
    ++report_.files.copied;
    carried_bytes_ += e.size;
    entry.line.tar_offset = held->line.tar_offset;
    index_.journal_put(entry);
    return true;
  }
  if (e.size == 0) return false;
  if (auto held = index_.find_content(e.size, *entry.line.digest, input_.ancestors)) {
    bool retagged = old != nullptr && old->line.digest == entry.line.digest;
    ++(retagged ? report_.files.same : report_.files.moved);
    entry.moved = !retagged;
    entry.line.in_set = held->set;
    entry.line.in_path = held->path;
    entry.line.tar_offset = held->tar_offset;
    index_.journal_put(entry);
    return true;
  }
  auto twin = index_.journal_twin(e, *entry.line.digest);
  if (twin && twin->location.path != e.path && (twin->alike || e.size >= kAlwaysLinked)) {
    Entry link = e;
    link.type = EntryType::kHardlink;
    link.target = twin->location.path;
    begin_entry(tar_entry_head(link), 0);
    entry.line.in_path = twin->location.path;
    entry.line.tar_offset = twin->location.tar_offset;
    ++report_.files.copied;
    index_.journal_put(entry);
    return true;
  }
  return false;
}

void SetBuilder::put_stored(IndexEntry& entry, std::uint64_t offset, std::uint64_t content_bytes) {
  entry.line.tar_offset = offset;
  ++report_.files.copied;
  report_.bytes.copied += content_bytes;
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
  report_.bytes.seen += length;
  report_.bytes.seen -= e.size;
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
  report_.bytes.seen += static_cast<std::uint64_t>(before.st_size) - e.size;
  e.size = static_cast<std::uint64_t>(before.st_size);
  e.mtime = to_nanos(before.st_mtim);
  e.ctime = to_nanos(before.st_ctim);
  auto runs = data_runs(fd.get(), before);
  std::vector<DataRun> whole = {{0, e.size}};
  const std::vector<DataRun>& data = runs ? *runs : whole;
  e.holes = runs.has_value();

  int error = 0;
  // Known content of this size makes it worth a look before it is stored. Beyond what the page
  // cache keeps for the second reading, the time must agree too.
  std::optional<Nanos> mtime;
  if (e.size > kCachedReading) mtime = e.mtime;
  bool likely_known = (!input_.ancestors.empty() && index_.has_size(e.size, mtime)) ||
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

  std::uint64_t stored = 0;
  for (const DataRun& run : data) stored += run.length;
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
      digester.update_zeros(run.offset - at);
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
  digester.update_zeros(e.size - at);
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
      --report_.files.copied;
      report_.bytes.copied -= entry.line.entry.size;
      entry.inode = st.st_ino;
      if (!store_large(fd, entry, nullptr, attempt + 1 == kReadTries)) {
        // fail() counted it; what was read before stays its line.
        --report_.files.failed;
        ++report_.files.copied;
        report_.bytes.copied += entry.line.entry.size;
      }
    }
  }
}

// ---- What an interrupted run left

std::optional<IndexEntry> SetBuilder::carried(const std::string& path) {
  return input_.cut ? index_.carried(path) : std::nullopt;
}

void SetBuilder::take_carried(const WalkEvent& event, IndexEntry& entry, const IndexEntry* old) {
  if (old != nullptr) {
    Fd fd = walk_.open_file();
    tally_.changed(*old, entry, fd.get());
  }
  std::uint64_t size = entry.line.entry.size;
  ++report_.files.seen;
  ++report_.files.copied;
  report_.bytes.seen += size;
  carried_bytes_ += size;
  entry.inode = event.st.st_ino;
  index_.journal_put(entry);
}

void SetBuilder::finish_cut_entry(const CutEntry& cut) {
  if (cut.end <= writer_.tar_offset()) return;
  writer_.go_on_with(cut);
  if (cut.file && go_on_with_file(cut)) return;
  writer_.go_on_with({cut.start, cut.end, nullptr, {}});
  writer_.append_zeros(cut.end - writer_.tar_offset());
}

bool SetBuilder::go_on_with_file(const CutEntry& cut) {
  std::string path = "/" + cut.file->path;
  Fd fd(::open(path.c_str(), O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC));
  struct stat st {
  }, after{};
  if (!fd || ::fstat(fd.get(), &st) != 0 || !S_ISREG(st.st_mode) || !is_as_it_was(*cut.file, st) ||
      data_runs(fd.get(), st)) {
    return false;
  }
  WalkEvent event;
  event.path = cut.file->path;
  event.st = st;
  IndexEntry entry;
  Entry& e = entry.line.entry;
  e = describe(event);
  e.xattrs = file_xattrs(fd.get());
  e.size = cut.file->size;
  std::uint64_t content = cut.start + tar_entry_head(e).size(), at = writer_.tar_offset();
  bool fits = content <= at && content + e.size + tar_padding(e.size) == cut.end;
  if (!fits) return false;

  // What lies in the parts must be what the file still begins with.
  std::uint64_t held = std::min(at - content, e.size);
  Digester digester;
  progress_.phase = "looking";
  for (std::uint64_t done = 0; done < held;) {
    check_stop();
    auto room = std::span(buffer_).first(std::min<std::uint64_t>(1 << 20, held - done));
    ssize_t n = read_some(fd.get(), done, room);
    if (n <= 0) return false;
    digester.update(room.first(static_cast<std::size_t>(n)));
    done += static_cast<std::uint64_t>(n);
    report_progress(e.path);
  }
  progress_.phase = "copying";
  if (held > 0 && digester.finish() != cut.so_far) return false;
  int error = 0;
  bool complete = read_content(fd, e, {{0, e.size}}, held, digester, true, error);
  large_left_ = 0;
  writer_.append_zeros(cut.end - writer_.tar_offset());
  report_.bytes.copied += e.size - held;
  finished_bytes_ = e.size - held;
  if (!complete || ::fstat(fd.get(), &after) != 0 || !same_stat(st, after)) return true;
  entry.line.digest = digester.finish();
  entry.line.tar_offset = cut.start;
  entry.inode = st.st_ino;
  entry.unsure = is_unsure(e);
  index_.put_carried(entry);
  return true;
}

// ---- Telling

void SetBuilder::warn(const std::string& path, const std::string& reason) {
  std::string absolute = "/" + path;
  ++report_.warning_count;
  if (report_.warnings.size() < kWarningLimit) report_.warnings.push_back({absolute, reason});
  observer_.warning(absolute, reason);
}

void SetBuilder::fail(const std::string& path, const std::string& reason) {
  ++report_.files.failed;
  warn(path, reason);
}

void SetBuilder::report_progress(const std::string& path) {
  progress_.files_done = report_.files.seen;
  progress_.bytes_done = report_.bytes.seen - std::min(report_.bytes.seen, large_left_);
  progress_.current = "/" + path;
  observer_.progress(progress_);
}

void SetBuilder::check_stop() const {
  if (stop_ && stop_()) throw Error(ErrorKind::kStopped, "stopped");
}

}  // namespace kestrum
