#include "kestrum/restore/target_folder.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <grp.h>
#include <pwd.h>
#include <sys/sysmacros.h>
#include <sys/vfs.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <cctype>
#include <cerrno>
#include <climits>
#include <cstdio>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/crypto/digest.h"

namespace kestrum {
namespace {

constexpr long kFuse = 0x65735546;  // FUSE_SUPER_MAGIC, of no public header
constexpr int kFolderFlags = O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC;

// The same for the same name, so that what a killed restore left is found by the next.
std::string temporary_name(const std::string& name) {
  return ".restoring-" + to_hex(digest_of(as_bytes(name))).substr(0, 16);
}

void drop(int parent, const std::string& name) {
  if (::unlinkat(parent, name.c_str(), 0) != 0) ::unlinkat(parent, name.c_str(), AT_REMOVEDIR);
}

Error in_the_way(int error_number, const std::string& path) {
  if (error_number == ELOOP || error_number == ENOTDIR) {
    return Error(ErrorKind::kFailed, path + ": a link or a file is in the way of a folder");
  }
  return system_error(error_number, path);
}

Error cannot_be_made(int error_number, const std::string& folder) {
  if (error_number == ENOTDIR) {
    std::string file = folder;
    while (file.size() > 1 && !path_exists(file)) file = parent_of(file);
    return Error(ErrorKind::kUsage, file + " is no folder", "name a folder, or one to be made")
        .about_path(folder);
  }
  return system_error(error_number, folder).about_path(folder);
}

// Throws what making it would throw, as far as that can be told beforehand.
void must_be_makeable(const std::string& folder) {
  std::string above = parent_of(folder);
  while (above.size() > 1 && !path_exists(above)) above = parent_of(above);
  if (!is_folder(above)) throw cannot_be_made(ENOTDIR, folder);
  if (::access(above.c_str(), W_OK | X_OK) != 0) throw cannot_be_made(errno, folder);
}

// The setuid and setgid bits of a file that came into other hands: they would lend it their rights.
// `owner` and `group` are whose it was to be; -1: it stays with who restores.
std::uint32_t foreign_bits(int fd, const Entry& entry, uid_t owner, gid_t group) {
  struct stat st {};
  if ((entry.mode & (S_ISUID | S_ISGID)) == 0) return 0;
  if (::fstat(fd, &st) != 0) return S_ISUID | S_ISGID;
  std::uint32_t bits = 0;
  if (st.st_uid != (owner == static_cast<uid_t>(-1) ? entry.uid : owner)) bits |= S_ISUID;
  if (st.st_gid != (group == static_cast<gid_t>(-1) ? entry.gid : group)) bits |= S_ISGID;
  return bits;
}

}  // namespace

TargetFolder::TargetFolder(std::string folder, OwnerRule owner, bool make, Making making)
    : folder_(std::move(folder)), owner_(owner), make_(make), making_(std::move(making)) {
  if (!path_exists(folder_)) {
    must_be_makeable(folder_);
    if (!make_) return;
    std::vector<std::string> missing;
    for (std::string at = folder_; !path_exists(at); at = parent_of(at)) missing.push_back(at);
    for (; !missing.empty(); missing.pop_back()) {
      if (making_) making_(missing.back());
      if (::mkdir(missing.back().c_str(), 0700) != 0) throw cannot_be_made(errno, missing.back());
    }
    made_ = true;
  }
  if (!is_folder(folder_)) throw cannot_be_made(ENOTDIR, folder_);
  // The target is what the user named: a link there is followed.
  root_.reset(::open(folder_.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!root_) throw system_error(errno, folder_).about_path(folder_);
  struct statfs fs {};
  sync_each_ = ::fstatfs(root_.get(), &fs) == 0 && fs.f_type == kFuse;
}

void TargetFolder::sync() {
  if (root_) ::syncfs(root_.get());
}

int TargetFolder::folder_fd(const std::string& relative) {
  if (!root_) return -1;  // it is not there, and nothing is made
  if (relative.empty()) return root_.get();
  if (open_valid_ && open_path_ == relative) return open_.get();
  // Go on from the folder that is open, if it lies above.
  std::size_t at = 0;
  Fd current;
  if (open_valid_ && relative.starts_with(open_path_ + "/")) {
    current = std::move(open_);
    at = open_path_.size() + 1;
  }
  open_valid_ = false;
  while (at <= relative.size()) {
    std::size_t end = std::min(relative.find('/', at), relative.size());
    std::string name = relative.substr(at, end - at);
    int parent = current ? current.get() : root_.get();
    int fd = ::openat(parent, name.c_str(), kFolderFlags);
    if (fd < 0 && errno == ENOENT) {
      if (!make_) return -1;
      if (making_) making_((folder_ == "/" ? "" : folder_) + "/" + relative.substr(0, end));
      if (::mkdirat(parent, name.c_str(), 0700) != 0 && errno != EEXIST) {
        throw system_error(errno, folder_ + "/" + relative);
      }
      fd = ::openat(parent, name.c_str(), kFolderFlags);
    }
    if (fd < 0) throw in_the_way(errno, folder_ + "/" + relative.substr(0, end));
    current.reset(fd);
    at = end + 1;
  }
  open_ = std::move(current);
  open_path_ = relative;
  open_valid_ = true;
  return open_.get();
}

bool TargetFolder::make_folder(const std::string& relative) {
  if (relative.empty()) return was_made();
  bool there = exists(relative);
  folder_fd(relative);
  return !there;
}

namespace {

// Where the other case of a name is not there, case tells names apart.
bool stands_in(int folder, const std::string& name) {
  std::string other = name;
  for (char& c : other) {
    if (std::isalpha(static_cast<unsigned char>(c)) != 0) c = static_cast<char>(c ^ 0x20);
  }
  bool ascii = std::all_of(name.begin(), name.end(),
                           [](char c) { return static_cast<unsigned char>(c) < 0x80; });
  if (ascii && other == name) return true;  // it has one spelling only
  struct stat st {};
  if (other != name && ::fstatat(folder, other.c_str(), &st, AT_SYMLINK_NOFOLLOW) != 0) return true;
  std::vector<std::string> names = list_folder("/proc/self/fd/" + std::to_string(folder));
  return std::find(names.begin(), names.end(), name) != names.end();
}

}  // namespace

bool TargetFolder::has_this_name(const std::string& relative) {
  Fd folder(::fcntl(folder_fd(""), F_DUPFD_CLOEXEC, 0));
  for (const std::string& name : split(relative, '/')) {
    if (!folder) return true;  // it is gone again
    if (!stands_in(folder.get(), name)) return false;
    folder.reset(
        ::openat(folder.get(), name.c_str(), O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC));
  }
  return true;
}

bool TargetFolder::exists(const std::string& relative, struct stat* st) {
  struct stat local {};
  int parent = folder_fd(folder_above(relative));
  if (parent < 0) return false;
  return ::fstatat(parent, base_name(relative).c_str(), st == nullptr ? &local : st,
                   AT_SYMLINK_NOFOLLOW) == 0;
}

std::string TargetFolder::read_link(const std::string& relative) {
  int parent = folder_fd(folder_above(relative));
  std::string target(PATH_MAX, 0);
  ssize_t length =
      parent < 0 ? -1
                 : ::readlinkat(parent, base_name(relative).c_str(), target.data(), target.size());
  target.resize(length < 0 ? 0 : static_cast<std::size_t>(length));
  return target;
}

void TargetFolder::replace_by_folder(const std::string& relative) {
  put(relative, true,
      [](int parent, const char* name) { return ::mkdirat(parent, name, 0700) == 0; });
}

bool TargetFolder::put(const std::string& relative, bool replace,
                       const std::function<bool(int parent, const char* name)>& make) {
  Fd parent(::fcntl(folder_fd(folder_above(relative)), F_DUPFD_CLOEXEC, 0));
  std::string name = base_name(relative);
  if (!replace) {
    if (make(parent.get(), name.c_str())) return true;
    if (errno == EEXIST) return false;
    throw system_error(errno, folder_ + "/" + relative);
  }
  std::string temporary = temporary_name(name);
  drop(parent.get(), temporary);
  if (!make(parent.get(), temporary.c_str())) throw system_error(errno, folder_ + "/" + relative);
  // Exchanged in one step, so that at no moment there is neither.
  struct stat st {};
  bool taken = ::fstatat(parent.get(), name.c_str(), &st, AT_SYMLINK_NOFOLLOW) == 0;
  int result = taken ? ::renameat2(parent.get(), temporary.c_str(), parent.get(), name.c_str(),
                                   RENAME_EXCHANGE)
                     : -1;
  if (result == 0) {
    bool folder = S_ISDIR(st.st_mode);
    if (::unlinkat(parent.get(), temporary.c_str(), folder ? AT_REMOVEDIR : 0) == 0) return true;
    // A folder with something in it: back as it was.
    ::renameat2(parent.get(), temporary.c_str(), parent.get(), name.c_str(), RENAME_EXCHANGE);
    drop(parent.get(), temporary);
    return false;
  }
  if (::renameat(parent.get(), temporary.c_str(), parent.get(), name.c_str()) == 0) return true;
  int error_number = errno;
  drop(parent.get(), temporary);
  if (error_number == EISDIR || error_number == ENOTEMPTY || error_number == EEXIST) return false;
  throw system_error(error_number, folder_ + "/" + relative);
}

void TargetFolder::drop_left_behind(const std::string& relative) {
  if (make_) drop(folder_fd(folder_above(relative)), temporary_name(base_name(relative)));
}

TargetFolder::NewFile::NewFile(TargetFolder& tree, const std::string& relative)
    : name_(base_name(relative)), sync_each_(tree.sync_each_) {
  parent_.reset(::fcntl(tree.folder_fd(folder_above(relative)), F_DUPFD_CLOEXEC, 0));
  temporary_ = temporary_name(name_);
  // One that is there is left from a restore that was killed.
  for (int attempt = 0; attempt < 2 && !fd_; ++attempt) {
    if (attempt > 0) ::unlinkat(parent_.get(), temporary_.c_str(), 0);
    fd_.reset(::openat(parent_.get(), temporary_.c_str(),
                       O_RDWR | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0600));
  }
  if (!fd_) {
    kept_ = true;  // there is nothing to remove
    int why = errno;
    if (why == ENOENT || why == EINVAL || why == EILSEQ || why == ENAMETOOLONG) {
      throw Error(ErrorKind::kFailed,
                  tree.folder_ + "/" + relative + ": the filesystem there does not take this name")
          .about_path(tree.folder_ + "/" + relative);
    }
    throw system_error(why, tree.folder_ + "/" + relative);
  }
}

TargetFolder::NewFile::~NewFile() {
  if (!kept_) ::unlinkat(parent_.get(), temporary_.c_str(), 0);
}

bool TargetFolder::NewFile::keep(bool replace) {
  if ((replace || sync_each_) && ::fsync(fd_.get()) != 0) throw system_error(errno, name_);
  if (replace) {
    struct stat st {};
    bool folder = ::fstatat(parent_.get(), name_.c_str(), &st, AT_SYMLINK_NOFOLLOW) == 0 &&
                  S_ISDIR(st.st_mode);
    if (folder && ::unlinkat(parent_.get(), name_.c_str(), AT_REMOVEDIR) != 0) return false;
    if (::renameat(parent_.get(), temporary_.c_str(), parent_.get(), name_.c_str()) != 0) {
      throw system_error(errno, name_);
    }
    kept_ = true;
    return true;
  }
  int result = ::renameat2(parent_.get(), temporary_.c_str(), parent_.get(), name_.c_str(),
                           RENAME_NOREPLACE);
  if (result != 0 && (errno == EINVAL || errno == ENOSYS)) {
    // A filesystem that cannot refuse to replace: look first.
    struct stat st {};
    if (::fstatat(parent_.get(), name_.c_str(), &st, AT_SYMLINK_NOFOLLOW) == 0) return false;
    result = ::renameat(parent_.get(), temporary_.c_str(), parent_.get(), name_.c_str());
  }
  if (result != 0 && errno == EEXIST) return false;
  if (result != 0) throw system_error(errno, name_);
  kept_ = true;
  return true;
}

bool TargetFolder::make_link(const std::string& relative, const Entry& entry, UnsetMetadata& unset,
                             bool replace) {
  return put(relative, replace, [&](int parent, const char* name) {
    if (::symlinkat(entry.target.c_str(), parent, name) != 0) return false;
    set_metadata_at(parent, name, entry, unset);
    return true;
  });
}

bool TargetFolder::make_fifo_or_device(const std::string& relative, const Entry& entry,
                                       UnsetMetadata& unset, bool replace) {
  mode_t type = entry.type == EntryType::kFifo ? S_IFIFO : entry.block_device ? S_IFBLK : S_IFCHR;
  dev_t device = gnu_dev_makedev(entry.device_major, entry.device_minor);
  return put(relative, replace, [&](int parent, const char* name) {
    if (::mknodat(parent, name, type | 0600, device) != 0) return false;
    set_metadata_at(parent, name, entry, unset);
    return true;
  });
}

bool TargetFolder::make_hardlink(TargetFolder& from_tree, const std::string& existing,
                                 const std::string& relative, bool replace) {
  Fd from(::fcntl(from_tree.folder_fd(folder_above(existing)), F_DUPFD_CLOEXEC, 0));
  std::string target = base_name(existing);
  return put(relative, replace, [&](int parent, const char* name) {
    return ::linkat(from.get(), target.c_str(), parent, name, 0) == 0;
  });
}

uid_t TargetFolder::owner_of(const Entry& entry) {
  if (owner_ == OwnerRule::kMe) return static_cast<uid_t>(-1);
  if (owner_ == OwnerRule::kNumbers || entry.user.empty()) return entry.uid;
  auto [it, added] = users_.try_emplace(entry.user, -1);
  if (added) {
    const passwd* found = ::getpwnam(entry.user.c_str());
    if (found != nullptr) it->second = found->pw_uid;
  }
  if (it->second >= 0) return static_cast<uid_t>(it->second);
  ++unmatched_;
  return entry.uid;
}

gid_t TargetFolder::group_of(const Entry& entry) {
  if (owner_ == OwnerRule::kMe) return static_cast<gid_t>(-1);
  if (owner_ == OwnerRule::kNumbers || entry.group.empty()) return entry.gid;
  auto [it, added] = groups_.try_emplace(entry.group, -1);
  if (added) {
    const ::group* found = ::getgrnam(entry.group.c_str());
    if (found != nullptr) it->second = found->gr_gid;
  }
  return it->second < 0 ? entry.gid : static_cast<gid_t>(it->second);
}

void TargetFolder::set_metadata(int fd, const Entry& entry, UnsetMetadata& unset) {
  // Owner first: a change of owner clears the setuid bit. Times last: everything else moves them.
  uid_t owner = owner_of(entry);
  gid_t group = group_of(entry);
  if (::fchown(fd, owner, group) != 0) ++unset.owners;
  for (const auto& [name, value] : entry.xattrs) {
    if (::fsetxattr(fd, name.c_str(), value.data(), value.size(), 0) != 0) ++unset.attributes;
  }
  std::uint32_t mode = entry.mode;
  if (entry.type != EntryType::kFolder) mode &= ~foreign_bits(fd, entry, owner, group);
  if (::fchmod(fd, mode) != 0) ++unset.modes;
  timespec times[2] = {entry.mtime.spec(), entry.mtime.spec()};
  ::futimens(fd, times);
}

void TargetFolder::set_metadata_at(int parent, const std::string& name, const Entry& entry,
                                   UnsetMetadata& unset) {
  if (::fchownat(parent, name.c_str(), owner_of(entry), group_of(entry), AT_SYMLINK_NOFOLLOW) !=
      0) {
    ++unset.owners;
  }
  std::string path = "/proc/self/fd/" + std::to_string(parent) + "/" + name;
  for (const auto& [key, value] : entry.xattrs) {
    if (::lsetxattr(path.c_str(), key.c_str(), value.data(), value.size(), 0) != 0) {
      ++unset.attributes;
    }
  }
  if (entry.type != EntryType::kLink && ::fchmodat(parent, name.c_str(), entry.mode, 0) != 0) {
    ++unset.modes;
  }
  timespec times[2] = {entry.mtime.spec(), entry.mtime.spec()};
  ::utimensat(parent, name.c_str(), times, AT_SYMLINK_NOFOLLOW);
}

void TargetFolder::set_folder_metadata(const std::string& relative, const Entry& entry,
                                       UnsetMetadata& unset) {
  set_metadata(folder_fd(relative), entry, unset);
}

}  // namespace kestrum
