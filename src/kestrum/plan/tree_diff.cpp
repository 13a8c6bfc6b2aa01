#include "kestrum/plan/tree_diff.h"

#include <algorithm>
#include <cerrno>
#include <memory>

#include "kestrum/base/error.h"
#include "kestrum/machine/state_ahead.h"
#include "kestrum/select/path_order.h"

namespace kestrum {

namespace {

// Entries of a restore point from which on a thread is worth its while.
constexpr std::uint64_t kReadAheadFrom = 5'000;

// How many it has at least: the lines of the largest ledger it stands on.
std::uint64_t least_entries(Index& index, SetId set) {
  std::uint64_t lines = 0;
  for (std::optional<SetId> at = set; at;) {
    auto known = index.find_set(*at);
    if (!known) break;
    lines = std::max(lines, known->lines);
    at = known->based_on;
  }
  return lines;
}

}  // namespace

KnownEntries known_at(Index& index, SetId set) {
  if (least_entries(index, set) >= kReadAheadFrom) {
    if (auto reader = index.reader()) {
      auto ahead = std::make_shared<StateAhead>(std::move(reader), set);
      return [ahead](IndexEntry& entry) { return ahead->next(entry); };
    }
  }
  auto cursor = std::make_shared<Index::Cursor>(index.state_at(set));
  return [cursor](IndexEntry& entry) { return cursor->next(entry); };
}

KnownEntries nothing_known() {
  return [](IndexEntry&) { return false; };
}

TreeDiff::TreeDiff(FoundEvents found, LostFolders lost, KnownEntries known)
    : found_(std::move(found)), lost_(std::move(lost)), known_(std::move(known)) {}

void TreeDiff::advance() {
  if (event_taken_) have_event_ = have_event_ && found_(event_);
  if (old_taken_ && ahead_) {
    old_ = std::move(*ahead_);
    ahead_.reset();
  } else if (old_taken_) {
    have_old_ = have_old_ && known_(old_);
  }
  event_taken_ = old_taken_ = false;
}

// What is known behind old_, if anything.
const IndexEntry* TreeDiff::known_next() {
  if (!ahead_) {
    IndexEntry next;
    if (!have_old_ || !known_(next)) {
      have_old_ = false;
      return nullptr;
    }
    ahead_ = std::move(next);
  }
  return &*ahead_;
}

bool TreeDiff::next(PathDiff& diff) {
  for (;;) {
    advance();
    if (!have_event_ && !have_old_) return false;
    int order = !have_event_ ? -1
                : !have_old_ ? 1
                             : compare_paths(old_.line.entry.path, event_.path);
    diff = PathDiff();
    if (order <= 0) {
      diff.old = &old_;
      old_taken_ = true;
    }
    if (order >= 0) event_taken_ = true;
    bool vanished = order >= 0 && event_.kind == WalkEvent::Kind::kUnknown &&
                    event_.error == ENOENT && !event_.is_root;
    if (order < 0 || (vanished && diff.old != nullptr)) {
      take_unseen(diff);
      return true;
    }
    if (vanished) continue;
    take_seen(diff);
    return true;
  }
}

void TreeDiff::take_unseen(PathDiff& diff) {
  const std::string& path = old_.line.entry.path;
  for (const std::string& root : lost_.absent) {
    if (!is_within("/" + path, root)) continue;
    diff.state = PathState::kAbsent;
    diff.unread_folder = root.substr(1);
    return;
  }
  const Folder* folder = folder_above(path);
  for (const std::string& root : lost_.released) {
    bool not_walked = folder == nullptr || !is_within("/" + folder->path, root);
    if (!not_walked || !is_within("/" + path, root)) continue;
    diff.state = PathState::kGone;
    return;
  }
  if (folder != nullptr && is_elsewhere(*folder)) return take_elsewhere(diff, folder->disk);
  switch (folder == nullptr ? Listing::kLeftOut : folder->listing) {
    case Listing::kUnreadable:
      diff.state = PathState::kAbsent;
      diff.unread_folder = folder->path;
      return;
    case Listing::kLeftOut:  // also where no folder of the job holds it any more
    case Listing::kOtherDisk:
      diff.state = PathState::kLeftOut;
      return;
    case Listing::kComplete:
    case Listing::kNotAFolder:
      diff.state = PathState::kGone;
      return;
  }
}

// Whether old_, which `folder` lies above, may be on a disk that is not the one seen there now.
bool TreeDiff::is_elsewhere(const Folder& folder) {
  if (folder.listing == Listing::kUnreadable || folder.listing == Listing::kLeftOut) return false;
  const LedgerEntry& line = old_.line;
  if (line.disk != folder.disk) return true;
  // The folder where a disk was mounted went with it.
  if (line.entry.type != EntryType::kFolder) return false;
  const IndexEntry* next = known_next();
  return line.mount || (next != nullptr && is_within(next->line.entry.path, line.entry.path) &&
                        next->line.disk == components_of(line.entry.path));
}

// What was known on another disk than the one seen there now is not gone with it.
void TreeDiff::take_elsewhere(PathDiff& diff, std::uint16_t disk_now) {
  const std::string& path = old_.line.entry.path;
  unsigned was = std::max<unsigned>(old_.line.disk, disk_now);
  if (old_.line.disk == disk_now) was = components_of(path);  // the mount point itself
  bool hidden = old_.line.disk < disk_now;
  std::string at(first_components(path, was));
  bool let_go = std::any_of(lost_.released.begin(), lost_.released.end(),
                            [&](const std::string& released) { return "/" + at == released; });
  diff.state = let_go ? PathState::kGone : PathState::kAbsent;
  if (let_go) return;
  if (told_.insert(at).second) diff.problem = hidden ? kDiskHides : kDiskIsAway;
  diff.unread_folder = std::move(at);
}

void TreeDiff::take_seen(PathDiff& diff) {
  diff.event = &event_;
  const Folder* above = folder_above(event_.path);
  diff.disk = above == nullptr ? 0 : above->disk;
  switch (event_.kind) {
    case WalkEvent::Kind::kUnknown:
      diff.state = PathState::kAbsent;
      diff.unread_folder = event_.path;
      // A root that is not there: the only ENOENT that comes here.
      diff.problem = event_.error == ENOENT ? kFolderNotThere : errno_text(event_.error);
      return enter(Listing::kUnreadable);
    case WalkEvent::Kind::kLeftOut: {
      bool held = diff.old != nullptr && old_.line.entry.type == EntryType::kFile;
      if (held && event_.only_if_new()) return take_entry(diff);
      diff.state = PathState::kLeftOut;
      return enter(Listing::kLeftOut);
    }
    case WalkEvent::Kind::kPassage:
      diff.state = PathState::kThere;
      return enter(Listing::kLeftOut);
    case WalkEvent::Kind::kEntry:
      return take_entry(diff);
  }
}

void TreeDiff::take_entry(PathDiff& diff) {
  diff.state = PathState::kThere;
  if (!S_ISDIR(event_.st.st_mode)) return enter(Listing::kNotAFolder);
  if (event_.listing_error != 0) {
    diff.problem = "this folder cannot be read: " + errno_text(event_.listing_error);
    return enter(Listing::kUnreadable);
  }
  enter(event_.contents_left_out ? Listing::kOtherDisk : Listing::kComplete);
}

// The path of the event.
void TreeDiff::enter(Listing listing) {
  const Folder* above = folder_above(event_.path);
  auto disk = event_.mount       ? static_cast<std::uint16_t>(components_of(event_.path))
              : above != nullptr ? above->disk
                                 : std::uint16_t{0};
  if (depth_ == folders_.size()) folders_.emplace_back();
  Folder& entered = folders_[depth_++];
  entered.path = event_.path;
  entered.listing = listing;
  entered.disk = disk;
}

// Of the folders entered, the deepest above `path`.
const TreeDiff::Folder* TreeDiff::folder_above(const std::string& path) {
  while (depth_ > 0 && !is_within(path, folders_[depth_ - 1].path)) --depth_;
  return depth_ == 0 ? nullptr : &folders_[depth_ - 1];
}

}  // namespace kestrum
