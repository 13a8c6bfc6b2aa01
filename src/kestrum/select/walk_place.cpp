#include "kestrum/select/walk_place.h"

#include <fcntl.h>
#include <sys/xattr.h>

#include <cerrno>

#include "kestrum/base/below.h"
#include "kestrum/select/source_file.h"

namespace kestrum {
namespace {

template <typename ListNames, typename GetValue>
Attributes read_xattrs(ListNames list_names, GetValue get_value) {
  constexpr std::size_t kLimit = 65536;  // of the kernel, for names and for a value
  Attributes result;
  char names[kLimit];
  ssize_t length = list_names(names, sizeof names);
  if (length < 0 && errno != ENOTSUP) result.error = errno;
  for (const char* name = names; length > 0 && name < names + length;
       name += std::char_traits<char>::length(name) + 1) {
    std::string value(kLimit, '\0');
    ssize_t n = get_value(name, value.data(), value.size());
    if (n < 0 && errno != ENODATA) result.error = errno;
    if (n < 0) continue;
    value.resize(static_cast<std::size_t>(n));
    result.values[name] = std::move(value);
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
