#include "kestrum/backup/set_builder.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "kestrum/base/error.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/plan/expected_changes.h"

namespace kestrum {

SetBuilder::SetBuilder(SetBuilderInput input, const Selection& selection, Index& index,
                       SetWriter& writer, RunMessages& messages)
    : input_(std::move(input)),
      selection_(selection),
      index_(index),
      messages_(messages),
      store_({input_.plan, input_.cut, input_.stop}, index, writer, messages, result_),
      walk_(input_.plan.roots.present, selection_),
      tally_(index, input_.plan.compared_with) {}

void SetBuilder::build() {
  store_.finish_cut_entry();
  const std::optional<SetId>& base = input_.plan.compared_with;
  TreeDiff tree(walk_, input_.plan.roots.absent, base ? known_at(index_, *base) : nothing_known());
  PathDiff diff;
  while (tree.next(diff)) {
    store_.check_stop();
    if (diff.old != nullptr) tally_.known(*diff.old);
    if (diff.event != nullptr && diff.event->is_root) leave_root(diff.path());
    handle(diff);
    store_.report_progress(diff.path());
  }
  leave_root(std::nullopt);
  store_.store_changed_again();
  std::uint64_t moves = index_.journal_moves();
  result_.files.gone -= std::min(result_.files.gone, moves);
  tally_.moved(moves);
  result_.changes = tally_.counts();
  for (const auto& [path, files] : absent_below_) {
    if (files > 0) {
      messages_.mention(fmt::format("{} below {} kept as last seen", counted(files, "file"), path));
    }
  }
}

// A folder that yields nothing is more often a mistake than meant.
void SetBuilder::leave_root(const std::optional<std::string>& next) {
  bool silent =
      result_.files.seen == seen_before_root_ && messages_.warning_count() == warnings_before_root_;
  if (root_ && silent) {
    store_.warn(*root_,
                nothing_copied(result_.files.left_out > left_out_before_root_ || folder_left_out_));
  }
  if (root_ && result_.files.seen == seen_before_root_ && gone_from_root_ > 0) {
    tally_.emptied("/" + *root_);
  }
  root_ = next;
  gone_from_root_ = 0;
  folder_left_out_ = false;
  seen_before_root_ = result_.files.seen;
  left_out_before_root_ = result_.files.left_out;
  warnings_before_root_ = messages_.warning_count();
}

// ---- What became of a path

void SetBuilder::handle(const PathDiff& diff) {
  if (!diff.problem.empty()) store_.warn(diff.path(), diff.problem);
  switch (diff.state) {
    case PathState::kThere:
      return handle_there(diff);
    case PathState::kAbsent:
      return handle_absent(diff);
    case PathState::kLeftOut:
      return handle_left_out(diff);
    case PathState::kGone:
      return handle_gone(*diff.old);
  }
}

// No line: it stays what it was. That goes for the folder of a disk that is not mounted too, or the
// next run would not know of the disk.
void SetBuilder::handle_absent(const PathDiff& diff) {
  if (diff.old == nullptr) return;
  if (diff.old->line.entry.type != EntryType::kFolder) {
    ++result_.files.absent;
    ++absent_below_["/" + diff.unread_folder];
  }
  result_.still_lost += store_.is_lost(*diff.old);
}

void SetBuilder::handle_left_out(const PathDiff& diff) {
  if (const WalkEvent* event = diff.event; event != nullptr && event->rule != Rule::kOwn) {
    folder_left_out_ |= S_ISDIR(event->st.st_mode);
    result_.left_out[static_cast<std::size_t>(event->rule)].add(event->st);
  }
  if (diff.old != nullptr) {
    result_.files.left_out += diff.old->line.entry.type != EntryType::kFolder;
    put_removal(*diff.old, EntryType::kLeftOut);
  } else if (!S_ISDIR(diff.event->st.st_mode)) {
    ++result_.files.left_out;
  }
}

void SetBuilder::handle_gone(const IndexEntry& old) {
  bool is_file = old.line.entry.type != EntryType::kFolder;
  result_.files.gone += is_file;
  gone_from_root_ += is_file;
  tally_.gone(old);
  put_removal(old, EntryType::kGone);
}

void SetBuilder::put_removal(const IndexEntry& old, EntryType type) {
  IndexEntry entry;
  entry.line.entry.path = old.line.entry.path;
  entry.line.entry.type = type;
  if (type == EntryType::kGone) {
    // Remembered in the journal to tell a move from a loss; the ledger line does not show it.
    entry.line.entry.size = old.line.entry.size;
    entry.line.digest = old.line.digest;
  }
  // A full set has no base to take anything away from; only the index learns it.
  entry.index_only = is_full();
  index_.journal_put(entry);
}

// ---- What is there

void SetBuilder::handle_there(const PathDiff& diff) {
  const WalkEvent& event = *diff.event;
  if (S_ISDIR(event.st.st_mode)) return handle_folder(event, diff.old);
  if (S_ISREG(event.st.st_mode)) return handle_file(event, diff.old);
  handle_other(event, diff.old);
}

void SetBuilder::handle_folder(const WalkEvent& event, const IndexEntry* old) {
  if (event.contents_left_out) {
    ++result_.left_out[static_cast<std::size_t>(Rule::kOtherFilesystem)].folders;
  }
  bool comparable = old != nullptr && !is_full() && old->line.entry.type == EntryType::kFolder &&
                    old->line.mount == event.mount;
  if (comparable && detector_.unchanged(event.path, event.st, *old)) return;
  IndexEntry entry;
  entry.line.entry = store_.describe(event.path, event.st);
  entry.line.entry.type = EntryType::kFolder;
  entry.line.entry.xattrs = walk_.xattrs();
  entry.line.mount = event.mount;
  entry.inode = event.st.st_ino;
  if (comparable && same_state(entry, *old)) return store_.put_unchanged(entry, *old);
  store_.put_entry_only(entry);
}

void SetBuilder::handle_other(const WalkEvent& event, const IndexEntry* old) {
  IndexEntry entry;
  Entry& e = entry.line.entry;
  e = store_.describe(event.path, event.st);
  entry.inode = event.st.st_ino;
  ++result_.files.seen;
  if (S_ISLNK(event.st.st_mode)) {
    e.type = EntryType::kLink;
    if (!walk_.read_link(e.target)) return store_.fail(event.path, errno_text(errno));
  } else if (S_ISFIFO(event.st.st_mode)) {
    e.type = EntryType::kFifo;
  } else {
    e.type = EntryType::kDevice;
    e.block_device = S_ISBLK(event.st.st_mode);
    e.device_major = gnu_dev_major(event.st.st_rdev);
    e.device_minor = gnu_dev_minor(event.st.st_rdev);
  }
  e.xattrs = walk_.xattrs();
  if (old != nullptr && !is_full() && same_state(entry, *old)) {
    ++result_.files.same;
    return store_.put_unchanged(entry, *old);
  }
  ++result_.files.copied;
  store_.put_entry_only(entry);
}

bool SetBuilder::handle_hardlink(const WalkEvent& event, const IndexEntry* old) {
  auto first = index_.first_link(event.st.st_dev, event.st.st_ino, event.path);
  if (!first) return false;
  ++result_.files.seen;
  IndexEntry entry;
  Entry& e = entry.line.entry;
  e = store_.describe(event.path, event.st);
  e.type = EntryType::kHardlink;
  e.target = *first;
  entry.inode = event.st.st_ino;
  if (old != nullptr && !is_full() && same_state(entry, *old)) {
    ++result_.files.same;
    store_.put_unchanged(entry, *old);
    return true;
  }
  ++result_.files.copied;
  if (index_.journal_holds(*first)) {
    store_.put_entry_only(entry);
  } else {
    index_.journal_put(entry);  // what it links to is not in this tar, so the link is not either
  }
  return true;
}

void SetBuilder::handle_file(const WalkEvent& event, const IndexEntry* old) {
  if (old == nullptr && selection_.too_old(to_nanos(event.st.st_mtim), input_.now)) {
    result_.left_out[static_cast<std::size_t>(Rule::kChangedWithin)].add(event.st);
    ++result_.files.left_out;
    return;
  }
  if (event.st.st_nlink > 1 && handle_hardlink(event, old)) return;
  auto size = static_cast<std::uint64_t>(event.st.st_size);
  bool was_file = old != nullptr && old->line.entry.type == EntryType::kFile;
  const IndexEntry* base = was_file && !is_full() ? old : nullptr;
  bool lost = base != nullptr && store_.is_lost(*base);
  if (base != nullptr && !lost && !input_.reread &&
      detector_.unchanged(event.path, event.st, *base)) {
    ++result_.files.seen;
    ++result_.files.same;
    result_.bytes.seen += size;
    return;
  }
  if (auto held = store_.carried(event.path); held && held->line.entry.type == EntryType::kFile &&
                                              !input_.reread &&
                                              detector_.unchanged(event.path, event.st, *held)) {
    if (was_file) {
      Fd fd = walk_.open_file();
      tally_.changed(*old, *held, fd.get());
    }
    return store_.put_carried(*held, event.st.st_ino);
  }
  Fd fd = walk_.open_file();
  struct stat st {};
  if (!fd || ::fstat(fd.get(), &st) != 0 || !S_ISREG(st.st_mode)) {
    int error = fd ? ESTALE : errno;
    // Its other names are not to lean on one that is not in this set.
    if (event.st.st_nlink > 1) index_.forget_link(event.st.st_dev, event.st.st_ino);
    if (error == ENOENT) {
      if (old != nullptr) handle_gone(*old);
      return;
    }
    ++result_.files.seen;
    result_.bytes.seen += size;
    result_.still_lost += lost;
    return store_.fail(event.path, errno_text(error));
  }
  IndexEntry entry;
  entry.line.entry = store_.describe(event.path, st);
  entry.line.entry.xattrs = file_xattrs(fd.get());
  entry.line.entry.size = static_cast<std::uint64_t>(st.st_size);
  entry.inode = st.st_ino;
  ++result_.files.seen;
  result_.bytes.seen += entry.line.entry.size;
  bool stored = store_.store_file(fd, st, entry, base);
  if (!stored && event.st.st_nlink > 1) index_.forget_link(event.st.st_dev, event.st.st_ino);
  if (lost) ++(stored ? result_.stored_anew : result_.still_lost);
  if (was_file) tally_.changed(*old, entry, fd.get());
}

}  // namespace kestrum
