// Walks the chosen folders in path order, without a list of all files in memory: only the names of
// the folders on the way down are held.
#pragma once

#include <sys/stat.h>

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "kestrum/base/file.h"
#include "kestrum/select/selection.h"

namespace kestrum {

struct WalkEvent {
  enum class Kind {
    kEntry,    // a path that the job takes
    kLeftOut,  // a path that a rule leaves out; a folder is not entered
    kUnknown,  // a path that is listed, or a root, whose state cannot be read (`error`)
  };
  Kind kind = Kind::kEntry;
  std::string path;   // relative to "/"
  struct stat st {};  // not for kUnknown
  Rule rule = Rule::kTaken;
  int error = 0;  // errno
  bool is_root = false;

  // Of a folder:
  int listing_error = 0;           // errno; what it holds is not known, or not all of it
  bool empty = false;              // listed without error, and nothing in it
  bool mount = false;              // another filesystem than the folder above
  bool contents_left_out = false;  // a mounted disk that is not crossed into
};

// Extended attributes of an open file. Attributes that cannot be read are left out.
std::map<std::string, std::string> file_xattrs(int fd);

// Used by one thread.
class Walk {
 public:
  // `roots` are absolute and folded (fold_overlaps). A root that is a symbolic link is followed.
  Walk(std::vector<std::string> roots, const Selection& selection);
  ~Walk();

  // The next event in path order; false at the end.
  bool next(WalkEvent& event);

  // Of the event last returned, until the next call. Opening does not follow links and does not
  // block; nothing and errno set if it cannot be opened.
  Fd open_file() const;
  // The text of a symbolic link; false and errno set on failure.
  bool read_link(std::string& target) const;
  // Extended attributes. Attributes that cannot be read are left out.
  std::map<std::string, std::string> xattrs() const;

 private:
  struct Level;
  void enter(WalkEvent& event, int parent_fd, const char* name, bool follow);
  bool next_root(WalkEvent& event);
  void visit(WalkEvent& event, int parent_fd, const std::string& name, dev_t parent_device);

  std::vector<std::string> roots_;
  std::size_t next_root_ = 0;
  const Selection& selection_;
  std::vector<std::unique_ptr<Level>> levels_;
  Fd root_parent_;
  int current_parent_ = -1;
  std::string current_name_;
};

}  // namespace kestrum
