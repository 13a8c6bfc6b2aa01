#include "kestrum/plan/tree_diff.h"

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

TreeDiff::TreeDiff(Walk& walk, std::vector<std::string> absent_roots, KnownEntries known)
    : walk_(walk), absent_roots_(std::move(absent_roots)), known_(std::move(known)) {}

void TreeDiff::advance() {
  if (event_taken_) have_event_ = have_event_ && walk_.next(event_);
  if (old_taken_) have_old_ = have_old_ && known_(old_);
  event_taken_ = old_taken_ = false;
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
  switch (listing_above(old_.line.entry.path)) {
    case Listing::kUnreadable:
      diff.state = PathState::kAbsent;
      diff.unread_folder = folders_.empty() ? "" : folders_.back().path;
      return;
    case Listing::kLeftOut:
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
    case WalkEvent::Kind::kLeftOut:
      diff.state = PathState::kLeftOut;
      return enter(event_.path, Listing::kLeftOut);
    case WalkEvent::Kind::kEntry:
      return take_entry(diff);
  }
}

void TreeDiff::take_entry(PathDiff& diff) {
  diff.state = PathState::kThere;
  if (!S_ISDIR(event_.st.st_mode)) return enter(event_.path, Listing::kNotAFolder);
  const IndexEntry* old = diff.old;
  bool was_mount = old != nullptr && old->line.entry.type == EntryType::kFolder && old->line.mount;
  if (was_mount && !event_.mount && event_.empty) {
    diff.state = PathState::kAbsent;
    diff.unread_folder = event_.path;
    diff.problem = "a disk was mounted here and is not now";
    return enter(event_.path, Listing::kUnreadable);
  }
  if (event_.listing_error != 0) {
    diff.problem = "this folder cannot be read: " + errno_text(event_.listing_error);
    return enter(event_.path, Listing::kUnreadable);
  }
  enter(event_.path, event_.contents_left_out ? Listing::kLeftOut : Listing::kComplete);
}

void TreeDiff::enter(const std::string& path, Listing listing) {
  while (!folders_.empty() && !is_within(path, folders_.back().path)) folders_.pop_back();
  folders_.push_back({path, listing});
}

TreeDiff::Listing TreeDiff::listing_above(const std::string& path) {
  while (!folders_.empty() && !is_within(path, folders_.back().path)) folders_.pop_back();
  if (!folders_.empty()) return folders_.back().listing;
  for (const auto& root : absent_roots_) {
    if (is_within("/" + path, root)) return Listing::kUnreadable;
  }
  return Listing::kLeftOut;  // under no folder of the job any more
}

}  // namespace kestrum
