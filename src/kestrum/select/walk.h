// Walks the chosen folders in path order, without a list of all files in memory: only the names of
// the folders on the way down are held.
#pragma once

#include <sys/stat.h>

#include <deque>
#include <map>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "kestrum/base/file.h"
#include "kestrum/select/selection.h"

namespace kestrum {

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
  int error = 0;  // errno
  bool is_root = false;
  // Of kLeftOut: what the chain holds already is taken all the same.
  bool only_if_new() const { return is_only_about_new(rule); }

  // Of a folder:
  int listing_error = 0;           // errno; what it holds is not known, or not all of it
  bool empty = false;              // listed without error, and nothing in it
  bool mount = false;              // another filesystem than the folder above
  bool contents_left_out = false;  // a mounted disk that is not crossed into
};

// Extended attributes. Those that cannot be read are left out, and `error` says why (errno).
struct Attributes {
  std::map<std::string, std::string> values;
  int error = 0;
};
Attributes file_xattrs(int fd);

// Used by one thread.
class Walk {
 public:
  // `roots` are absolute, in any order. A root is taken whatever the rules say of it or of a folder
  // above it, also below another root. A symbolic link there, or above, is followed where
  // that is safe (base/followed.h).
  Walk(const std::vector<std::string>& roots, const Selection& selection);
  ~Walk();

  // The next event in path order; false at the end.
  bool next(WalkEvent& event);

  // Of the event last returned, until the next call. Opening does not follow links and does not
  // block; nothing and errno set if it cannot be opened.
  Fd open_file() const;
  // The text of a symbolic link; false and errno set on failure.
  bool read_link(std::string& target) const;
  Attributes xattrs() const;
  // Whether its filesystem keeps inode numbers and ctimes from one mount to the next.
  bool has_lasting_inodes() const;

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

  std::vector<std::string> roots_;  // relative to "/", in path order
  const Selection& selection_;
  bool begun_ = false;
  std::vector<std::unique_ptr<Level>> levels_;
  std::deque<std::pair<std::string, int>> unreachable_;  // roots, with errno
  Fd top_;
  int current_parent_ = -1;
  std::string current_name_;
  Fd followed_;               // the current parent, where a link was followed
  std::vector<uid_t> links_;  // to whom links on the way to the current path belong
};

}  // namespace kestrum
