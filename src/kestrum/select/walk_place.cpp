#include "kestrum/select/walk_place.h"

#include <fcntl.h>
#include <sys/xattr.h>

#include <cerrno>
#include <cstring>
#include <string>

#include "kestrum/base/below.h"
#include "kestrum/select/source_file.h"

namespace kestrum {
namespace {

constexpr std::size_t kLimit = 65536;  // bytes, of the kernel, for names and for a value

// What `read` puts into a buffer of so many bytes: into a small one first, since the kernel makes
// one of the same size at each call. Says false, with errno, where it fails.
template <typename Read>
bool read_whole(std::string& bytes, Read read) {
  for (std::size_t room : {std::size_t{512}, kLimit}) {
    bytes.resize(room);
    ssize_t length = read(bytes.data(), bytes.size());
    if (length < 0 && errno == ERANGE && room < kLimit) continue;
    bytes.resize(length < 0 ? 0 : static_cast<std::size_t>(length));
    return length >= 0;
  }
  return false;
}

template <typename ListNames, typename GetValue>
Attributes read_xattrs(ListNames list_names, GetValue get_value) {
  Attributes result;
  std::string names, value;
  if (!read_whole(names, list_names) && errno != ENOTSUP) result.error = errno;
  for (std::size_t at = 0; at < names.size(); at += std::strlen(&names[at]) + 1) {
    const char* name = &names[at];
    bool read = read_whole(
        value, [&](char* bytes, std::size_t size) { return get_value(name, bytes, size); });
    if (read) {
      result.values[name] = value;
    } else if (errno != ENODATA) {
      result.error = errno;
    }
  }
  return result;
}

}  // namespace

Fd WalkPlace::open_file() const {
  constexpr int kFlags = O_RDONLY | O_NONBLOCK | O_NOCTTY;
  // O_NOATIME is refused for other people's files.
  Fd fd = below::open(folder(), name_, kFlags | O_NOATIME);
  if (!fd && errno == EPERM) fd = below::open(folder(), name_, kFlags);
  return fd;
}

bool WalkPlace::read_link(std::string& target) const {
  return below::read_link(folder(), name_, target);
}

Attributes WalkPlace::xattrs() const {
  // "." where the path is the open folder itself.
  std::string path = below::path_for_calls(folder(), name_.empty() ? "." : name_);
  return read_xattrs(
      [&](char* names, std::size_t size) { return ::llistxattr(path.c_str(), names, size); },
      [&](const char* name, void* value, std::size_t size) {
        return ::lgetxattr(path.c_str(), name, value, size);
      });
}

bool WalkPlace::has_lasting_inodes() const {
  Fd fd = below::open(folder(), name_, O_PATH);
  return !fd || kestrum::has_lasting_inodes(fd.get());
}

Attributes file_xattrs(int fd) {
  return read_xattrs([&](char* names, std::size_t size) { return ::flistxattr(fd, names, size); },
                     [&](const char* name, void* value, std::size_t size) {
                       return ::fgetxattr(fd, name, value, size);
                     });
}

}  // namespace kestrum
