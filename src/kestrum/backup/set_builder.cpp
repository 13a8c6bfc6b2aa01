#include "kestrum/backup/set_builder.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
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
      store_({input_.plan, input_.cut, input_.stop, input_.stretches_folder}, index, writer,
             messages, result_),
      walk_(input_.plan.roots.present, selection_, input_.snapshots),
      new_files_(selection, index, input_.plan, input_.now),
      tally_(index, input_.plan.compared_with, input_.plan.roots.lost.released) {}

void SetBuilder::build() {
  store_.finish_cut_entry();
  const std::optional<SetId>& base = input_.plan.compared_with;
  for (const auto& root : input_.plan.roots.lost.absent) {
    result_.unread.add(root.substr(1));
    result_.away.push_back(root);
    store_.warn(root.substr(1), kFolderIsAway);
  }
  // A full set reads every file, but what an earlier run stored of it, and other names of a file.
  WalkAhead::Wanted wanted;
  if (is_full() && !input_.cut) {
    wanted = [](const WalkEvent& event) { return event.st.st_nlink < 2; };
  }
  WalkAhead found(walk_, wanted);
  TreeDiff tree([&](WalkEvent& event) { return next_found(found, event); }, input_.plan.roots.lost,
                base ? known_at(index_, *base) : nothing_known());
  PathDiff diff;
  while (tree.next(diff)) {
    store_.check_stop();
    if (diff.old != nullptr) tally_.known(*diff.old);
    // A folder of the job within another is a part of that one.
    bool next_root =
        diff.event != nullptr && diff.event->is_root && !(root_ && is_within(diff.path(), *root_));
    if (next_root) leave_root(diff.path());
    handle(diff);
    store_.report_progress(diff.path());
  }
  leave_root(std::nullopt);
  store_.store_changed_again();
  index_.settle_stretches();
  std::uint64_t moves = result_.files.gone > 0 ? index_.journal_moves() : 0;
  result_.files.gone -= std::min(result_.files.gone, moves);
  tally_.moved(moves);
  result_.changes = tally_.counts();
  for (const auto& [path, files] : absent_below_) {
    if (files > 0) {
      messages_.mention(fmt::format("{} below {} kept as last seen", counted(files, "file"), path));
    }
  }
}

// Passes by what has the name that stretches have in the tar.
bool SetBuilder::next_found(WalkAhead& found, WalkEvent& event) {
  while (found.next(event)) {
    if (!is_within(event.path, input_.stretches_folder)) return true;
    if (event.path == input_.stretches_folder) {
      store_.warn(event.path, "has a name that Kestrum's sets use; it is not copied");
    }
  }
  return false;
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
  if (!diff.problem.empty()) {
    store_.warn(diff.problem_path(), diff.problem);
    result_.unread.add(diff.problem_path());
    for (const char* away : {kDiskHides, kDiskIsAway, kFolderNotThere}) {
      if (diff.problem == away) result_.away.push_back("/" + diff.problem_path());
    }
  }
  disk_ = diff.disk;
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

// No line: it stays what it was.
void SetBuilder::handle_absent(const PathDiff& diff) {
  if (diff.old == nullptr) return;
  if (diff.old->line.entry.type != EntryType::kFolder) {
    ++result_.files.absent;
    ++absent_below_["/" + diff.unread_folder];
  }
  result_.still_lost += store_.is_lost(*diff.old);
}

void SetBuilder::handle_left_out(const PathDiff& diff) {
  if (diff.event != nullptr && new_files_.holds(*diff.event)) return handle_there(diff);
  if (diff.event != nullptr && S_ISDIR(diff.event->st.st_mode) && input_.plan.owed.lacking) {
    result_.unread.add_left_out(diff.path(), *input_.plan.owed.lacking);
  }
  if (const WalkEvent* event = diff.event; event != nullptr && event->rule != Rule::kOwn) {
    folder_left_out_ |= S_ISDIR(event->st.st_mode);
    result_.left_out[static_cast<std::size_t>(event->rule)].add(event->st);
  }
  if (diff.old != nullptr) {
    result_.files.left_out += diff.old->line.entry.type != EntryType::kFolder;
    put_removal(*diff.old, EntryType::kLeftOut);
  } else if (diff.event != nullptr && !S_ISDIR(diff.event->st.st_mode)) {
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

std::map<std::string, std::string> SetBuilder::attributes_of(const std::string& path,
                                                             Attributes found) {
  if (found.error != 0) {
    store_.warn(path, "attributes or access lists cannot be read: " + errno_text(found.error));
  }
  return std::move(found.values);
}

void SetBuilder::handle_there(const PathDiff& diff) {
  const WalkEvent& event = *diff.event;
  if (S_ISDIR(event.st.st_mode)) return handle_folder(event, diff.old);
  if (S_ISREG(event.st.st_mode)) return handle_file(event, diff.old);
  handle_other(event, diff.old);
}

void SetBuilder::handle_folder(const WalkEvent& event, const IndexEntry* old) {
  if (event.mount) result_.unread.add_mount(event.path);
  if (event.kind == WalkEvent::Kind::kPassage && event.rule != Rule::kTaken) {
    ++result_.left_out[static_cast<std::size_t>(event.rule)].folders;
  }
  if (event.contents_left_out) {
    ++result_.left_out[static_cast<std::size_t>(Rule::kOtherFilesystem)].folders;
  }
  bool comparable = old != nullptr && !is_full() && old->line.entry.type == EntryType::kFolder &&
                    old->line.mount == event.mount && old->line.disk == disk_;
  if (comparable && detector_.unchanged(event, *old)) return;
  put_folder(event, comparable ? old : nullptr);
}

// `old` is what to compare with, if anything.
void SetBuilder::put_folder(const WalkEvent& event, const IndexEntry* old) {
  IndexEntry entry;
  entry.line.entry = store_.describe(event.path, event.st);
  entry.line.entry.type = EntryType::kFolder;
  entry.line.entry.xattrs = attributes_of(event.path, event.at.xattrs());
  entry.line.mount = event.mount;
  entry.line.disk = disk_;
  entry.inode = event.st.st_ino;
  if (old != nullptr && same_state(entry, *old)) return store_.put_unchanged(entry, *old);
  store_.put_entry_only(entry);
}

void SetBuilder::handle_other(const WalkEvent& event, const IndexEntry* old) {
  IndexEntry entry;
  Entry& e = entry.line.entry;
  e = store_.describe(event.path, event.st);
  entry.inode = event.st.st_ino;
  entry.line.disk = disk_;
  ++result_.files.seen;
  if (S_ISLNK(event.st.st_mode)) {
    e.type = EntryType::kLink;
    if (!event.at.read_link(e.target)) return store_.fail(event.path, errno_text(errno));
  } else if (S_ISFIFO(event.st.st_mode)) {
    e.type = EntryType::kFifo;
  } else {
    e.type = EntryType::kDevice;
    e.block_device = S_ISBLK(event.st.st_mode);
    e.device_major = gnu_dev_major(event.st.st_rdev);
    e.device_minor = gnu_dev_minor(event.st.st_rdev);
  }
  e.xattrs = attributes_of(event.path, event.at.xattrs());
  if (old != nullptr && !is_full() && same_state(entry, *old)) {
    ++result_.files.same;
    return store_.put_unchanged(entry, *old);
  }
  ++result_.files.copied;
  store_.put_entry_only(entry);
}

// The number that the names of a file share: that of the base while it is the same file, so that
// nothing changes in the ledgers where nothing changed on the disk.
std::uint64_t SetBuilder::link_group(const struct stat& st, const IndexEntry* old) {
  if (st.st_nlink < 2) return 0;
  bool same_file = old != nullptr && (old->inode == st.st_ino || old->inode == 0);
  if (same_file && old->line.entry.link_group != 0) return old->line.entry.link_group;
  // The folder of a name may have been renamed, of which the file knows nothing.
  if (input_.plan.compared_with) {
    std::uint64_t known =
        index_.link_group_of(*input_.plan.compared_with, st.st_ino,
                             static_cast<std::uint64_t>(st.st_size), FileTime(st.st_mtim));
    if (known != 0) return known;
  }
  std::array<std::uint8_t, 24> text{};
  put_le64(text.data(), st.st_dev);
  put_le64(text.data() + 8, st.st_ino);
  put_le64(text.data() + 16, static_cast<std::uint64_t>(input_.plan.next.id.sequence()));
  constexpr std::uint64_t kBits =
      (std::uint64_t{1} << 52) - 1;  // what every reader of JSON can hold
  return (get_le64(digest_of(text).data()) & kBits) | 1;
}

// Another name of a file that was stored already needs no second look at its content.
bool SetBuilder::handle_other_name(const WalkEvent& event, const IndexEntry* old,
                                   const FirstName& first) {
  auto leader = index_.journal_find(first.path);
  bool held = leader && (leader->line.tar_offset || !leader->line.ranges.empty());
  if (!held || leader->unsettled || !leader->line.digest) return false;
  IndexEntry entry;
  Entry& e = entry.line.entry;
  e = store_.describe(event.path, event.st);
  e.size = static_cast<std::uint64_t>(event.st.st_size);
  bool same = leader->inode == event.st.st_ino && leader->line.entry.size == e.size &&
              leader->line.entry.mtime == e.mtime && leader->line.entry.ctime == e.ctime;
  if (!same) return false;
  e.xattrs = leader->line.entry.xattrs;
  e.link_group = leader->line.entry.link_group;
  entry.inode = event.st.st_ino;
  entry.line.disk = disk_;
  ++result_.files.seen;
  store_.put_other_name(entry, *leader, is_full() ? nullptr : old);
  return true;
}

void SetBuilder::handle_file(const WalkEvent& event, const IndexEntry* old) {
  if (new_files_.refuses(event, old) == Rule::kChangedWithin) {
    result_.left_out[static_cast<std::size_t>(Rule::kChangedWithin)].add(event.st);
    ++result_.files.left_out;
    return;
  }
  std::uint64_t group = link_group(event.st, old);
  std::optional<FirstName> first;
  if (group != 0) first = index_.first_link(event.st.st_dev, event.st.st_ino, {event.path, group});
  if (first) group = first->group;
  auto size = static_cast<std::uint64_t>(event.st.st_size);
  bool was_file = old != nullptr && old->line.entry.type == EntryType::kFile;
  const IndexEntry* base = was_file && !is_full() ? old : nullptr;
  bool lost = base != nullptr && store_.is_lost(*base);
  bool seen_elsewhere = base != nullptr && base->line.disk != disk_;
  if (base != nullptr && !lost && !seen_elsewhere && !input_.reread &&
      detector_.unchanged(event, *base)) {
    ++result_.files.seen;
    ++result_.files.same;
    result_.bytes.seen += size;
    return;
  }
  if (first && !input_.reread && handle_other_name(event, old, *first)) return;
  if (auto held = store_.carried(event.path, group);
      held && held->line.entry.type == EntryType::kFile && !input_.reread &&
      detector_.unchanged(event, *held)) {
    held->line.disk = disk_;
    if (was_file) tally_.changed(*old, *held);
    return store_.put_carried(*held, event.st.st_ino);
  }
  Fd fd;
  struct stat st {};
  const FileAhead* ahead = event.ahead.get();
  if (ahead != nullptr) {
    st = ahead->st;
  } else {
    fd = event.at.open_file();
  }
  if (ahead == nullptr && (!fd || ::fstat(fd.get(), &st) != 0 || !S_ISREG(st.st_mode))) {
    int error = fd ? ESTALE : errno;
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
  entry.line.entry.xattrs =
      attributes_of(event.path, ahead != nullptr ? ahead->attributes : file_xattrs(fd.get()));
  entry.line.entry.size = static_cast<std::uint64_t>(st.st_size);
  entry.line.entry.link_group = group;
  entry.inode = st.st_ino;
  entry.line.disk = disk_;
  ++result_.files.seen;
  result_.bytes.seen += entry.line.entry.size;
  bool stored = ahead != nullptr ? store_.store_read(*ahead, entry, base)
                                 : store_.store_file(fd, st, entry, base);
  if (lost) ++(stored ? result_.stored_anew : result_.still_lost);
  if (was_file) tally_.changed(*old, entry);
}

}  // namespace kestrum
