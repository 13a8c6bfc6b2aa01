// Reading a file of the PC that may change meanwhile.
#pragma once

#include <sys/stat.h>

#include <map>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "kestrum/base/file.h"
#include "kestrum/base/observer.h"
#include "kestrum/crypto/digest.h"

namespace kestrum {

// Whether two looks at a file show the same content, as far as a stat can tell.
bool same_stat(const struct stat& a, const struct stat& b);

// Reads at most `out.size()` bytes at `offset`; 0 at the end, or -1 and errno.
ssize_t read_some(int fd, std::uint64_t offset, std::span<std::uint8_t> out);

// The digest of an open file's content; nothing if it cannot be read. Throws Error(kStopped).
std::optional<Digest> digest_of_file(int fd, const StopRequest& stop);

// Whether the filesystem of what is open keeps inode numbers and ctimes from one mount to the next.
bool has_lasting_inodes(int fd);

// Names of owners, looked up once each.
class OwnerNames {
 public:
  const std::string& user(uid_t uid);
  const std::string& group(gid_t gid);

 private:
  std::map<uid_t, std::string> users_;
  std::map<gid_t, std::string> groups_;
};

}  // namespace kestrum
