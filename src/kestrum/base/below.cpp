#include "kestrum/base/below.h"

#include <dirent.h>
#include <fcntl.h>
#include <linux/openat2.h>
#include <sys/syscall.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <climits>

#include "kestrum/base/error.h"

namespace kestrum::below {
namespace {

constexpr int kDeepestTree = 1000;  // folders in each other that remove_tree goes down
constexpr int kAgain = 100;         // times that EAGAIN of openat2 is answered by trying again
constexpr int kPassage = O_PATH | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC;

std::atomic<bool> have_openat2 = true, have_unnamed_files = true;

bool is_name(std::string_view name) {
  return !name.empty() && name != "." && name != ".." && name.find('\0') == std::string_view::npos;
}

// Only where path is not a single name.
bool is_path(std::string_view path) {
  for (std::size_t begin = 0; begin <= path.size();) {
    std::size_t end = std::min(path.find('/', begin), path.size());
    if (!is_name(path.substr(begin, end - begin))) return false;
    begin = end + 1;
  }
  return true;
}

// ELOOP where a name that was refused as no folder is a link, as openat2 says.
void tell_link(int folder, const std::string& name) {
  if (errno != ENOTDIR) return;
  struct stat st {};
  bool link = ::fstatat(folder, name.c_str(), &st, AT_SYMLINK_NOFOLLOW) == 0 && S_ISLNK(st.st_mode);
  errno = link ? ELOOP : ENOTDIR;
}

// Nothing to fall back from: -1 and errno, or the descriptor. -2 if the call is not to be had.
int at_once(int folder, const std::string& path, int flags, mode_t mode) {
  open_how how{};
  how.flags = static_cast<std::uint64_t>(flags);
  how.mode = (flags & O_CREAT) != 0 ? mode : 0;
  how.resolve = RESOLVE_BENEATH | RESOLVE_NO_SYMLINKS | RESOLVE_NO_MAGICLINKS;
  for (int i = 0; i < kAgain; ++i) {
    long fd = ::syscall(SYS_openat2, folder, path.c_str(), &how, sizeof how);
    if (fd >= 0) return static_cast<int>(fd);
    if (errno == EAGAIN || errno == EINTR) continue;
    // A path that may not be opened says EACCES or, of O_NOATIME, EPERM; so do sandboxes that know
    // no openat2, and asking name by name answers for both.
    bool refused = errno == ENOSYS || errno == EPERM || errno == E2BIG || errno == EINVAL;
    if (errno == ENOSYS) have_openat2 = false;
    return refused ? -2 : -1;
  }
  return -2;
}

int by_names(int folder, const std::string& path, int flags, mode_t mode) {
  Fd current;
  for (std::size_t begin = 0;;) {
    std::size_t end = path.find('/', begin);
    int parent = current ? current.get() : folder;
    std::string name = path.substr(begin, end - begin);
    if (end == std::string::npos) {
      int last = ::openat(parent, name.c_str(), flags, mode);
      if (last < 0) tell_link(parent, name);
      return last;
    }
    int fd = ::openat(parent, name.c_str(), kPassage);
    if (fd < 0) {
      tell_link(parent, name);
      return -1;
    }
    current.reset(fd);
    begin = end + 1;
  }
}

// The folder that a path lies in, and its last name there.
struct Parent {
  Parent(int folder, const std::string& path) : name(path) {
    std::size_t slash = path.rfind('/');
    if (slash != std::string::npos) {
      name = path.substr(slash + 1);
      above = open_passage(folder, path.substr(0, slash));
      fd = above.get();
    } else {
      fd = folder;
    }
    if (fd >= 0 && !is_name(name)) {
      fd = -1;
      errno = EXDEV;
    }
  }
  explicit operator bool() const { return fd >= 0; }
  Fd above;
  int fd = -1;
  std::string name;
};

std::string proc_path(int fd) {
  return "/proc/self/fd/" + std::to_string(fd);
}

bool empty_folder(int folder, dev_t device, int depth) {
  if (depth == kDeepestTree) {
    errno = ELOOP;
    return false;
  }
  std::vector<std::string> names;
  if (!list(folder, names)) return false;
  for (const std::string& name : names) {
    if (::unlinkat(folder, name.c_str(), 0) == 0 || errno == ENOENT) continue;
    if (errno != EISDIR && errno != EPERM) return false;
    int why = errno;
    Fd inside = open_folder(folder, name);
    if (!inside) {
      if (errno == ENOTDIR || errno == ELOOP) errno = why;
      return false;
    }
    struct stat st {};
    if (::fstat(inside.get(), &st) != 0) return false;
    if (st.st_dev != device) {
      errno = EXDEV;
      return false;
    }
    if (!empty_folder(inside.get(), device, depth + 1)) return false;
    if (::unlinkat(folder, name.c_str(), AT_REMOVEDIR) != 0 && errno != ENOENT) return false;
  }
  return true;
}

}  // namespace

void use_openat2(bool use) {
  have_openat2 = use;
}

void use_unnamed_files(bool use) {
  have_unnamed_files = use;
}

Fd open(int folder, const std::string& path, int flags, mode_t mode) {
  flags |= O_NOFOLLOW | O_CLOEXEC;
  if (path.empty()) return Fd(::openat(folder, ".", flags & ~O_NOFOLLOW, mode));
  if (!is_path(path)) {
    errno = EXDEV;
    return Fd();
  }
  // One name needs nothing more than O_NOFOLLOW.
  bool several = path.find('/') != std::string::npos;
  int fd = several && have_openat2 ? at_once(folder, path, flags, mode) : -2;
  return Fd(fd == -2 ? by_names(folder, path, flags, mode) : fd);
}

Fd open_regular(int folder, const std::string& path, int flags) {
  struct stat st {};
  // Looked at first: to open a device may already do something.
  if (!look(folder, path, st)) return Fd();
  Fd fd;
  if (S_ISLNK(st.st_mode)) {
    errno = ELOOP;
    return fd;
  }
  if (S_ISREG(st.st_mode)) {
    fd = open(folder, path, flags | O_NONBLOCK | O_NOCTTY);
    if (!fd || ::fstat(fd.get(), &st) != 0) return Fd();
  }
  if (!S_ISREG(st.st_mode)) {
    fd.reset();
    errno = kNotRegular;
  }
  return fd;
}

Fd create(int folder, const std::string& path, int flags, mode_t mode) {
  int access = (flags & O_ACCMODE) == O_RDWR ? O_RDWR : O_WRONLY;
  return open(folder, path, (flags & ~O_ACCMODE) | access | O_CREAT | O_EXCL, mode);
}

Fd unnamed_file(int folder, mode_t mode) {
  if (!have_unnamed_files) {
    errno = EOPNOTSUPP;
    return Fd();
  }
  return Fd(::openat(folder, ".", O_TMPFILE | O_RDWR | O_CLOEXEC, mode));
}

bool give_name(int unnamed, int folder, const std::string& path) {
  Parent at(folder, path);
  if (!at) return false;
  if (::linkat(unnamed, "", at.fd, at.name.c_str(), AT_EMPTY_PATH) == 0) return true;
  // Only root may do it by the descriptor alone.
  return errno != EEXIST && ::linkat(AT_FDCWD, proc_path(unnamed).c_str(), at.fd, at.name.c_str(),
                                     AT_SYMLINK_FOLLOW) == 0;
}

Fd open_folder(int folder, const std::string& path) {
  return open(folder, path, O_RDONLY | O_DIRECTORY | O_NONBLOCK);
}

Fd open_passage(int folder, const std::string& path) {
  return open(folder, path, O_PATH | O_DIRECTORY);
}

bool look(int folder, const std::string& path, struct stat& st) {
  if (path.empty()) return ::fstat(folder, &st) == 0;
  Parent at(folder, path);
  return at && ::fstatat(at.fd, at.name.c_str(), &st, AT_SYMLINK_NOFOLLOW) == 0;
}

bool exists(int folder, const std::string& path) {
  struct stat st {};
  return look(folder, path, st) || (errno != ENOENT && errno != ENOTDIR && errno != ENAMETOOLONG);
}

bool read_link(int folder, const std::string& path, std::string& target) {
  Parent at(folder, path);
  if (!at) return false;
  target.resize(PATH_MAX);
  ssize_t n = ::readlinkat(at.fd, at.name.c_str(), target.data(), target.size());
  target.resize(static_cast<std::size_t>(std::max<ssize_t>(n, 0)));
  return n >= 0;
}

bool make_folder(int folder, const std::string& path) {
  Parent at(folder, path);
  return at && ::mkdirat(at.fd, at.name.c_str(), 0700) == 0;
}

bool make_link(int folder, const std::string& path, const std::string& target) {
  Parent at(folder, path);
  return at && ::symlinkat(target.c_str(), at.fd, at.name.c_str()) == 0;
}

bool make_node(int folder, const std::string& path, mode_t mode, dev_t device) {
  Parent at(folder, path);
  return at && ::mknodat(at.fd, at.name.c_str(), mode, device) == 0;
}

bool make_hardlink(int from_folder, const std::string& from, int folder, const std::string& path) {
  Parent source(from_folder, from);
  if (!source) return false;
  Parent at(folder, path);
  return at && ::linkat(source.fd, source.name.c_str(), at.fd, at.name.c_str(), 0) == 0;
}

bool rename(int from_folder, const std::string& from, int folder, const std::string& path,
            unsigned flags) {
  Parent source(from_folder, from);
  if (!source) return false;
  Parent at(folder, path);
  if (!at) return false;
  if (flags == 0) {
    return ::renameat(source.fd, source.name.c_str(), at.fd, at.name.c_str()) == 0;
  }
  return ::renameat2(source.fd, source.name.c_str(), at.fd, at.name.c_str(), flags) == 0;
}

bool remove(int folder, const std::string& path) {
  Parent at(folder, path);
  return at && ::unlinkat(at.fd, at.name.c_str(), 0) == 0;
}

bool remove_folder(int folder, const std::string& path) {
  Parent at(folder, path);
  return at && ::unlinkat(at.fd, at.name.c_str(), AT_REMOVEDIR) == 0;
}

bool remove_tree(int folder, const std::string& path) {
  Fd inside = open_folder(folder, path);
  struct stat st {
  }, above{};
  if (!inside || ::fstat(inside.get(), &st) != 0 || ::fstat(folder, &above) != 0) return false;
  if (st.st_dev != above.st_dev) {
    errno = EXDEV;
    return false;
  }
  return empty_folder(inside.get(), st.st_dev, 0) && remove_folder(folder, path);
}

bool list(int folder, std::vector<std::string>& names) {
  names.clear();
  Fd again;  // of one that is open only to go on from
  if (::lseek(folder, 0, SEEK_SET) != 0) {
    again = open_folder(folder, "");
    if (!again) return false;
    folder = again.get();
  }
  // By the call that readdir(3) makes, without what opening and closing it takes for each folder.
  alignas(dirent64) char buffer[32 << 10];
  ssize_t length = 0;
  while ((length = ::getdents64(folder, buffer, sizeof buffer)) > 0) {
    for (ssize_t at = 0; at < length;) {
      const auto* entry = reinterpret_cast<const dirent64*>(buffer + at);
      std::string_view name = entry->d_name;
      if (name != "." && name != "..") names.emplace_back(name);
      at += entry->d_reclen;
    }
  }
  int why = length < 0 && errno != ENOENT ? errno : 0;  // ENOENT: removed, so nothing is in it
  std::sort(names.begin(), names.end());
  // Where it changes meanwhile, some filesystems give a name twice.
  names.erase(std::unique(names.begin(), names.end()), names.end());
  errno = why;
  return why == 0;
}

bool may_make_in(int folder) {
  return ::faccessat(folder, ".", W_OK | X_OK, 0) == 0;
}

bool set_owner(int fd, uid_t user, gid_t group) {
  return ::fchownat(fd, "", user, group, AT_EMPTY_PATH) == 0;
}

// The descriptor's path in /proc leads to the thing itself, and no further where that is a link.
bool set_mode(int fd, mode_t mode) {
  if (::fchmod(fd, mode) == 0) return true;
  return errno == EBADF && ::chmod(proc_path(fd).c_str(), mode) == 0;
}

bool set_times(int fd, const timespec times[2]) {
  if (::futimens(fd, times) == 0) return true;
  return errno == EBADF && ::utimensat(AT_FDCWD, proc_path(fd).c_str(), times, 0) == 0;
}

bool set_attribute(int fd, const std::string& name, std::string_view value) {
  if (::fsetxattr(fd, name.c_str(), value.data(), value.size(), 0) == 0) return true;
  return errno == EBADF &&
         ::setxattr(proc_path(fd).c_str(), name.c_str(), value.data(), value.size(), 0) == 0;
}

std::string path_for_calls(int folder, const std::string& name) {
  return proc_path(folder) + "/" + name;
}

}  // namespace kestrum::below
