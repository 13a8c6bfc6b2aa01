// The files of the PC by their paths, as a walk meets them: links at a root and above are followed
// where that is safe (base/followed.h), below it none is.
#pragma once

#include <sys/stat.h>

#include <string>
#include <vector>

#include "kestrum/base/file.h"

namespace kestrum {

// Used by one thread. Paths are relative to "/"; functions set errno on failure.
class SourceTree {
 public:
  // `roots` are absolute, in any order.
  explicit SourceTree(const std::vector<std::string>& roots);

  // A regular file, for reading; nothing if it is anything else now.
  Fd open_file(const std::string& path) const;
  // A folder, for listing.
  Fd open_folder(const std::string& path) const;
  [[nodiscard]] bool look(const std::string& path, struct stat& st) const;

 private:
  // The root that a path lies in, held open, and the path below it.
  struct Place {
    Fd folder;
    std::string path;
  };
  Place place_of(const std::string& path) const;

  std::vector<std::string> roots_;  // relative to "/", the longest first
};

}  // namespace kestrum
