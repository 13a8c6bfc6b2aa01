// What the walk finds beside what was known before: one answer a path, in path order. Runs,
// forecasts and comparisons with now all stand on it, so that what counts as gone is decided once.
//
// Gone is only what was seen to be gone: its folder was read, to the end, on the disk that it was
// seen on, and it was not there. All else that was known and is not found is absent, or left out by
// the job. Where a disk was mounted below "/" is a fact of each entry (LedgerEntry::disk), so that
// what lies on a disk and what lies in the folder below it are told apart, however often it comes
// and goes.
#pragma once

#include <functional>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "kestrum/machine/index.h"
#include "kestrum/select/walk.h"

namespace kestrum {

enum class PathState {
  kThere,    // the walk sees it
  kGone,     // it was known, and the folder it was in was read without it
  kAbsent,   // whether it is there cannot be told: it, or a folder above it, cannot be read, or a
             // disk is not mounted, or hides it
  kLeftOut,  // a rule leaves it out, or no folder of the job holds it any more
};

struct PathDiff {
  PathState state = PathState::kThere;
  const WalkEvent* event = nullptr;  // nothing where the walk did not come by, or found it gone
  const IndexEntry* old = nullptr;   // nothing if it was not known
  // What cannot be read, for a warning, once for each place: what a folder holds if it is kThere,
  // `unread_folder` if it is kAbsent. Empty if all is well.
  std::string problem;
  std::string unread_folder;  // of what is kAbsent: the path, relative to "/", that hides it
  std::uint16_t disk = 0;     // of what is kThere: as LedgerEntry has it

  // Relative to "/". One of the two is always there, which clang-tidy cannot see.
  const std::string& path() const {
    // NOLINTNEXTLINE(clang-analyzer-core.uninitialized.UndefReturn)
    return event != nullptr ? event->path : old->line.entry.path;
  }
  const std::string& problem_path() const {
    return state == PathState::kAbsent ? unread_folder : path();
  }
};

// What is known: in path order; false at the end.
using KnownEntries = std::function<bool(IndexEntry&)>;
// The state of a restore point in the index.
KnownEntries known_at(Index& index, SetId set);
KnownEntries nothing_known();

// What is away, beyond what the walk and the last state can tell.
struct LostFolders {
  std::vector<std::string> absent;    // absolute: not there now, and not walked; they may come back
  std::vector<std::string> released;  // absolute: somebody said that they, or the disk mounted
                                      // there, will not
};

// Why what was known is absent.
inline constexpr const char* kDiskHides =
    "a disk is mounted over this folder now, and hides what it holds";
inline constexpr const char* kDiskIsAway = "a disk was mounted here and is not now";
// Of a folder of the job.
inline constexpr const char* kFolderNotThere = "this folder is not there";

class TreeDiff {
 public:
  // What is found: in path order; false at the end.
  using FoundEvents = std::function<bool(WalkEvent&)>;
  TreeDiff(FoundEvents found, LostFolders lost, KnownEntries known);
  TreeDiff(Walk& walk, LostFolders lost, KnownEntries known)
      : TreeDiff([&walk](WalkEvent& event) { return walk.next(event); }, std::move(lost),
                 std::move(known)) {}

  // The next path; false at the end. What the diff points to is valid until the next call. A path
  // that was not known and vanished before it was looked at is passed over.
  bool next(PathDiff& diff);

 private:
  // What a folder says of a path that was not found in it.
  enum class Listing {
    kComplete,
    kUnreadable,
    kLeftOut,
    kOtherDisk,  // left out, since it is mounted there
    kNotAFolder,
  };
  struct Folder {
    std::string path;
    Listing listing = Listing::kComplete;
    std::uint16_t disk = 0;  // of what it holds
  };

  void advance();
  const IndexEntry* known_next();
  bool is_elsewhere(const Folder& folder);
  void take_elsewhere(PathDiff& diff, std::uint16_t disk_now);
  void take_unseen(PathDiff& diff);
  void take_seen(PathDiff& diff);
  void take_entry(PathDiff& diff);
  void enter(Listing listing);
  const Folder* folder_above(const std::string& path);

  FoundEvents found_;
  LostFolders lost_;
  KnownEntries known_;
  // Entered, from the outermost to the innermost: the first depth_; what is behind is used again.
  std::vector<Folder> folders_;
  std::size_t depth_ = 0;
  std::set<std::string> told_;  // mount points that were told of
  WalkEvent event_;
  IndexEntry old_;
  std::optional<IndexEntry> ahead_;  // behind old_, where that had to be known
  bool have_event_ = true, have_old_ = true;
  bool event_taken_ = true, old_taken_ = true;  // the next one is wanted
};

}  // namespace kestrum
