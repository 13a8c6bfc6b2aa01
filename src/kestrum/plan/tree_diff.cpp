#include "kestrum/plan/tree_diff.h"

#include <algorithm>
#include <cerrno>
#include <memory>

#include "kestrum/base/error.h"
#include "kestrum/select/path_order.h"

namespace kestrum {

KnownEntries known_at(Index& index, SetId set) {
  auto cursor = std::make_shared<Index::Cursor>(index.state_at(set));
  return [cursor](IndexEntry& entry) { return cursor->next(entry); };
}

KnownEntries nothing_known() {
  return [](IndexEntry&) { return false; };
}

TreeDiff::TreeDiff(Walk& walk, LostFolders lost, KnownEntries known)
    : walk_(walk), lost_(std::move(lost)), known_(std::move(known)) {}

void TreeDiff::advance() {
  if (event_taken_) have_event_ = have_event_ && walk_.next(event_);
  if (old_taken_ && ahead_) {
    old_ = std::move(*ahead_);
    ahead_.reset();
  } else if (old_taken_) {
    have_old_ = have_old_ && known_(old_);
  }
  event_taken_ = old_taken_ = false;
}

// Whether anything behind old_, which is `path`, lies below it.
bool TreeDiff::knows_more_below(const std::string& path) {
  if (!ahead_) {
    IndexEntry next;
    if (!known_(next)) {
      have_old_ = false;
      return false;
    }
    ahead_ = std::move(next);
  }
  return is_within(ahead_->line.entry.path, path);
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
  switch (folder == nullptr ? Listing::kLeftOut : folder->listing) {
    case Listing::kUnreadable:
    case Listing::kHidden:
      diff.state = PathState::kAbsent;
      diff.unread_folder = folder->path;
      return;
    case Listing::kLeftOut:  // also where no folder of the job holds it any more
      diff.state = PathState::kLeftOut;
      return;
    case Listing::kComplete:
    case Listing::kNotAFolder:
      diff.state = PathState::kGone;
      return;
  }
}

void TreeDiff::take_seen(PathDiff& diff) {
  diff.event = &event_;
  switch (event_.kind) {
    case WalkEvent::Kind::kUnknown:
      diff.state = PathState::kAbsent;
      diff.unread_folder = event_.path;
      // A root that is not there: the only ENOENT that comes here.
      diff.problem = event_.error == ENOENT ? "this folder is not there" : errno_text(event_.error);
      return enter(event_.path, Listing::kUnreadable);
    case WalkEvent::Kind::kLeftOut: {
      bool held = diff.old != nullptr && old_.line.entry.type == EntryType::kFile;
      if (held && event_.only_if_new()) return take_entry(diff);
      diff.state = PathState::kLeftOut;
      return enter(event_.path, Listing::kLeftOut);
    }
    case WalkEvent::Kind::kPassage:
      diff.state = PathState::kThere;
      return enter(event_.path, Listing::kLeftOut);
    case WalkEvent::Kind::kEntry:
      return take_entry(diff);
  }
}

void TreeDiff::take_entry(PathDiff& diff) {
  diff.state = PathState::kThere;
  if (!S_ISDIR(event_.st.st_mode)) return enter(event_.path, Listing::kNotAFolder);
  if (is_another_disk(diff.old)) {
    // What lies there now is taken, and what was known is not gone: the folder stays what it was,
    // so that the next run sees the same.
    diff.state = PathState::kAbsent;
    diff.unread_folder = event_.path;
    diff.problem = event_.mount ? "a disk is mounted over this folder now, and hides what it holds"
                                : "a disk was mounted here and is not now";
    return enter(event_.path, Listing::kHidden);
  }
  if (event_.listing_error != 0) {
    diff.problem = "this folder cannot be read: " + errno_text(event_.listing_error);
    return enter(event_.path, Listing::kUnreadable);
  }
  enter(event_.path, event_.contents_left_out ? Listing::kLeftOut : Listing::kComplete);
}

// Whether the folder of the event lies on another disk than what was known in it.
bool TreeDiff::is_another_disk(const IndexEntry* old) {
  if (is_released(event_.path)) return false;
  auto missed = lost_.missed.find(event_.path);
  if (missed != lost_.missed.end() && missed->second != event_.mount) return true;
  bool was_folder = old != nullptr && old->line.entry.type == EntryType::kFolder;
  return was_folder && old->line.mount != event_.mount && knows_more_below(event_.path);
}

void TreeDiff::enter(const std::string& path, Listing listing) {
  const Folder* above = folder_above(path);
  bool hidden = above != nullptr && above->listing == Listing::kHidden;
  if (hidden && (listing == Listing::kComplete || listing == Listing::kNotAFolder)) {
    return;  // what the folder above says goes for this one
  }
  folders_.push_back({path, listing});
}

bool TreeDiff::is_released(const std::string& path) const {
  return std::any_of(lost_.released.begin(), lost_.released.end(),
                     [&](const std::string& released) { return "/" + path == released; });
}

// Of the folders entered, the deepest above `path`.
const TreeDiff::Folder* TreeDiff::folder_above(const std::string& path) {
  while (!folders_.empty() && !is_within(path, folders_.back().path)) folders_.pop_back();
  return folders_.empty() ? nullptr : &folders_.back();
}

}  // namespace kestrum
