// Whether files look as they did, without reading them.
#pragma once

#include <sys/stat.h>

#include <map>
#include <string>

#include "kestrum/machine/index_entry.h"

namespace kestrum {

// Whether the file changed so shortly before now that another change might not show in its times.
bool is_unsure(const Entry& entry);

// Not for more than one thread at a time.
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
