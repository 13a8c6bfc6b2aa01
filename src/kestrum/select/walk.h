// Walks the chosen folders in path order, without a list of all files in memory: only the names of
// the folders on the way down are held.
#pragma once

#include <sys/stat.h>

#include <deque>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "kestrum/base/bytes.h"
#include "kestrum/base/file.h"
#include "kestrum/select/selection.h"
#include "kestrum/select/snapshot_view.h"
#include "kestrum/select/walk_place.h"

namespace kestrum {

// A regular file that was read ahead of its turn: whole, without holes, and the same before and
// after.
struct FileAhead {
  struct stat st {};
  Attributes attributes;
  std::unique_ptr<std::uint8_t[]> bytes;  // not filled with zeros for nothing
  ByteView content;                       // which lies there
  bool unsure = false;                    // whether it changed shortly before it was read
};

struct WalkEvent {
  enum class Kind {
    kEntry,    // a path that the job takes
    kPassage,  // a folder that is only gone through, on the way to a root below it
    kLeftOut,  // a path that a rule leaves out; a folder is not entered
    kUnknown,  // a path that is listed, or a root, whose state cannot be read (`error`)
  };
  Kind kind = Kind::kEntry;
  std::string path;   // relative to "/"
  struct stat st {};  // not for kUnknown
  Rule rule = Rule::kTaken;
  WalkPlace at;                            // not for kUnknown
  std::shared_ptr<const FileAhead> ahead;  // where whoever walks has read it
  int error = 0;                           // errno
  bool is_root = false;
  // What it holds open, and of a file's content.
  void let_go() {
    at.clear();
    ahead.reset();
  }
  // As a new one; but its names keep their room.
  void clear();
  // Of kLeftOut: what the chain holds already is taken all the same.
  bool only_if_new() const { return is_only_about_new(rule); }

  // Of a folder:
  int listing_error = 0;           // errno; what it holds is not known, or not all of it
  bool empty = false;              // listed without error, and nothing in it
  bool mount = false;              // another filesystem than the folder above
  bool contents_left_out = false;  // a mounted disk that is not crossed into
};

// Used by one thread.
class Walk {
 public:
  // `roots` are absolute, in any order. A root is taken whatever the rules say of it or of a folder
  // above it, also below another root. A symbolic link there, or above, is followed where
  // that is safe (base/followed.h). What `snapshots`, which outlives the walk, has of a root is
  // read from there.
  Walk(const std::vector<std::string>& roots, const Selection& selection,
       const SnapshotView* snapshots = nullptr);
  ~Walk();

  // The next event in path order; false at the end.
  bool next(WalkEvent& event);

 private:
  struct Level;
  // Roots below a path, by their places in roots_; if it is one itself, that stands before `first`.
  struct Below {
    std::size_t first, last;  // `last` is behind the last
    bool any() const { return first < last; }
  };
  Below below(const std::string& path) const;
  std::vector<std::string> ways(const std::string& path, const Below& below) const;
  // Goes on with what the current path leads to; false and errno set if it leads nowhere.
  bool follow_link(WalkEvent& event);
  // False if there is nothing to tell of it.
  bool visit(WalkEvent& event, const Level& level, const std::string& name);
  bool cannot_look(WalkEvent& event, const Below& roots, int error);
  void pass_through(const WalkEvent& event, const Below& roots);
  void enter(WalkEvent& event, const std::string& root, const Below& roots);
  void leave_out(WalkEvent& event, const Below& roots);
  void take_snapshot_of(WalkEvent& event);
  bool look_in_snapshot(WalkEvent& event, const Level& level);

  std::vector<std::string> roots_;  // relative to "/", in path order
  const Selection& selection_;
  const SnapshotView* snapshots_;
  bool begun_ = false;
  std::vector<std::unique_ptr<Level>> levels_;
  std::deque<std::pair<std::string, int>> unreachable_;  // roots, with errno
  std::shared_ptr<const Fd> parent_;                     // of the current path, and its name there
  std::string name_;
  std::vector<uid_t> links_;  // to whom links on the way to the current path belong
  // The current path lies in it, and there in the live tree; nullptr and "" where it does not.
  const TreeSnapshot* snapshot_ = nullptr;
  std::string live_;
};

}  // namespace kestrum
