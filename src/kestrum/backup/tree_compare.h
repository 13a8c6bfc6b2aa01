// Comparing what the walk finds with what the index knows: shared by runs and forecasts.
#pragma once

#include <sys/stat.h>

#include <map>
#include <string>
#include <vector>

#include "kestrum/machine/index.h"

namespace kestrum {

// What the folders seen so far say about a path that was not found in them. This is what keeps a
// file from being taken for deleted: read and not there is gone, not readable is absent, a rule is
// left out.
enum class Listing { kComplete, kUnknown, kLeftOut, kNotAFolder };

class Listings {
 public:
  // `absent_roots` are absolute: folders of the job that are not there now.
  explicit Listings(std::vector<std::string> absent_roots)
      : absent_roots_(std::move(absent_roots)) {}
  // Told of every path that the walk sees, in path order.
  void enter(const std::string& path, Listing listing);
  // Of the folders entered, the deepest above `path`: what it says of the path's absence.
  Listing above(const std::string& path);
  // That folder, relative to "/"; empty if there is none.
  std::string folder() const { return ancestors_.empty() ? "" : ancestors_.back().path; }

 private:
  struct Ancestor {
    std::string path;
    Listing listing;
  };
  void leave(const std::string& path);
  std::vector<std::string> absent_roots_;
  std::vector<Ancestor> ancestors_;
};

// Whether the file changed so shortly before now that another change might not show in its times.
bool is_unsure(const Entry& entry);

// Whether files look as they did, without reading them.
class ChangeDetector {
 public:
  // `path` is relative to "/".
  bool unchanged(const std::string& path, const struct stat& st, const IndexEntry& old);

 private:
  // Whether the path's filesystem keeps inode numbers and ctimes from one mount to the next.
  bool lasting_inodes(const std::string& path, dev_t device);
  std::map<dev_t, bool> lasting_;
};

}  // namespace kestrum
