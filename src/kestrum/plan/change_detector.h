// Whether files look as they did, without reading them.
#pragma once

#include <sys/stat.h>

#include <map>
#include <optional>
#include <string>

#include "kestrum/base/observer.h"
#include "kestrum/machine/index_entry.h"
#include "kestrum/select/walk.h"

namespace kestrum {

// Whether the file changed so shortly before now that another change might not show in its times;
// `fd` is open on it.
bool is_unsure(FileTime mtime, FileTime ctime, int fd);

// The same of many files in a row, of which most lie on one disk.
class UnsureFiles {
 public:
  bool is_unsure(const struct stat& st, int fd);

 private:
  std::optional<dev_t> device_;  // of the file before
  bool never_written_back_ = false;
};

// Whether what the walk found has the content of `known`, which is no folder:
// what a link reads, that it is a FIFO or a device, or the digest of a file, which is read. False
// for a file that cannot be read. Throws Error(kStopped).
bool has_content_of(const WalkEvent& event, const IndexEntry& known, const StopRequest& stop);

// Not for more than one thread at a time.
class ChangeDetector {
 public:
  // Of what the walk found.
  bool unchanged(const WalkEvent& event, const IndexEntry& old);

 private:
  // Whether its filesystem keeps inode numbers and ctimes from one mount to the next.
  bool lasting_inodes(const WalkEvent& event);
  std::map<dev_t, bool> lasting_;
};

}  // namespace kestrum
