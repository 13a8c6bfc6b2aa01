#include "kestrum/select/walk.h"

#include <dirent.h>
#include <fcntl.h>
#include <linux/magic.h>
#include <sys/vfs.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>

#include "kestrum/select/litter.h"

namespace kestrum {
namespace {

// Filesystems that hold no files of anybody.
bool is_pseudo_filesystem(int fd) {
  struct statfs fs {};
  if (::fstatfs(fd, &fs) != 0) return false;
  constexpr std::array<long, 12> kPseudo = {
      PROC_SUPER_MAGIC,    SYSFS_MAGIC,    DEVPTS_SUPER_MAGIC, CGROUP_SUPER_MAGIC,
      CGROUP2_SUPER_MAGIC, DEBUGFS_MAGIC,  TRACEFS_MAGIC,      SECURITYFS_MAGIC,
      BPF_FS_MAGIC,        PSTOREFS_MAGIC, EFIVARFS_MAGIC,     BINFMTFS_MAGIC};
  return std::find(kPseudo.begin(), kPseudo.end(), static_cast<long>(fs.f_type)) != kPseudo.end();
}

template <typename ListNames, typename GetValue>
std::map<std::string, std::string> read_xattrs(ListNames list_names, GetValue get_value) {
  constexpr std::size_t kLimit = 65536;  // of the kernel, for names and for a value
  std::map<std::string, std::string> result;
  char names[kLimit];
  ssize_t length = list_names(names, sizeof names);
  for (const char* name = names; length > 0 && name < names + length;
       name += std::char_traits<char>::length(name) + 1) {
    std::string value(kLimit, '\0');
    ssize_t n = get_value(name, value.data(), value.size());
    if (n < 0) continue;
    value.resize(static_cast<std::size_t>(n));
    result[name] = std::move(value);
  }
  return result;
}

}  // namespace

struct Walk::Level {
  Fd fd;
  dev_t device = 0;
  std::string prefix;  // of the paths in this folder
  std::vector<std::string> names;
  std::size_t next = 0;
};

Walk::Walk(std::vector<std::string> roots, const Selection& selection)
    : roots_(std::move(roots)), selection_(selection) {}

Walk::~Walk() = default;

bool Walk::next(WalkEvent& event) {
  event = WalkEvent();
  while (!levels_.empty() && levels_.back()->next == levels_.back()->names.size()) {
    levels_.pop_back();
  }
  if (levels_.empty()) return next_root(event);
  Level& level = *levels_.back();
  std::string name = std::move(level.names[level.next++]);
  event.path = level.prefix + name;
  visit(event, level.fd.get(), name, level.device);
  return true;
}

bool Walk::next_root(WalkEvent& event) {
  if (next_root_ == roots_.size()) return false;
  const std::string& root = roots_[next_root_++];
  event.path = root.substr(1);
  event.is_root = true;
  std::string parent = parent_of(root);
  root_parent_.reset(::open(parent.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC));
  struct stat parent_st {};
  if (!root_parent_ || ::fstat(root_parent_.get(), &parent_st) != 0) {
    event.kind = WalkEvent::Kind::kUnknown;
    event.error = errno;
    return true;
  }
  visit(event, root_parent_.get(), root == "/" ? "." : base_name(root), parent_st.st_dev);
  return true;
}

void Walk::visit(WalkEvent& event, int parent_fd, const std::string& name, dev_t parent_device) {
  current_parent_ = parent_fd;
  current_name_ = name;
  // A root is what the user named, so a link there is followed and rules do not refuse it.
  int flags = event.is_root ? 0 : AT_SYMLINK_NOFOLLOW;
  if (::fstatat(parent_fd, name.c_str(), &event.st, flags) != 0) {
    event.kind = WalkEvent::Kind::kUnknown;
    event.error = errno;
    return;
  }
  bool folder = S_ISDIR(event.st.st_mode);
  if (!event.is_root) {
    event.rule = selection_.by_path(event.path);
    if (event.rule == Rule::kTaken && S_ISREG(event.st.st_mode)) {
      event.rule = selection_.by_file(event.path, static_cast<std::uint64_t>(event.st.st_size));
    }
  }
  if (S_ISSOCK(event.st.st_mode)) event.rule = Rule::kSocket;
  if (folder && selection_.is_own(event.st.st_dev, event.st.st_ino)) event.rule = Rule::kOwn;
  if (event.rule != Rule::kTaken) {
    event.kind = WalkEvent::Kind::kLeftOut;
    return;
  }
  if (!folder) return;
  event.mount = event.st.st_dev != parent_device;
  if (event.mount && !event.is_root && !selection_.rules().other_filesystems) {
    event.contents_left_out = true;
    return;
  }
  enter(event, parent_fd, name.c_str(), event.is_root);
}

void Walk::enter(WalkEvent& event, int parent_fd, const char* name, bool follow) {
  Fd fd(::openat(parent_fd, name,
                 O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NONBLOCK | (follow ? 0 : O_NOFOLLOW)));
  if (!fd) {
    event.listing_error = errno;
    return;
  }
  if (event.mount && !event.is_root && is_pseudo_filesystem(fd.get())) {
    event.contents_left_out = true;
    return;
  }
  if (!event.is_root && selection_.rules().leave_out_litter && has_cache_tag(fd.get())) {
    event.kind = WalkEvent::Kind::kLeftOut;
    event.rule = Rule::kLitter;
    return;
  }
  DIR* dir = ::fdopendir(::fcntl(fd.get(), F_DUPFD_CLOEXEC, 0));
  if (dir == nullptr) {
    event.listing_error = errno;
    return;
  }
  auto level = std::make_unique<Level>();
  for (;;) {
    errno = 0;
    dirent* e = ::readdir(dir);
    if (e == nullptr) {
      event.listing_error = errno;
      break;
    }
    std::string_view entry = e->d_name;
    if (entry != "." && entry != "..") level->names.emplace_back(entry);
  }
  ::closedir(dir);
  // Byte order of sibling names is path order: '/' counts as 0x00, below every other byte.
  std::sort(level->names.begin(), level->names.end());
  event.empty = level->names.empty() && event.listing_error == 0;
  level->fd = std::move(fd);
  level->device = event.st.st_dev;
  level->prefix = event.path.empty() ? "" : event.path + "/";
  levels_.push_back(std::move(level));
}

Fd Walk::open_file() const {
  // O_NOATIME is refused for other people's files.
  constexpr int kFlags = O_RDONLY | O_NONBLOCK | O_CLOEXEC | O_NOCTTY;
  bool root = levels_.empty() && current_parent_ == root_parent_.get();
  int flags = kFlags | (root ? 0 : O_NOFOLLOW);
  int fd = ::openat(current_parent_, current_name_.c_str(), flags | O_NOATIME);
  if (fd < 0 && errno == EPERM) fd = ::openat(current_parent_, current_name_.c_str(), flags);
  return Fd(fd);
}

bool Walk::read_link(std::string& target) const {
  target.resize(PATH_MAX);
  ssize_t n = ::readlinkat(current_parent_, current_name_.c_str(), target.data(), target.size());
  if (n < 0) return false;
  target.resize(static_cast<std::size_t>(n));
  return true;
}

std::map<std::string, std::string> Walk::xattrs() const {
  std::string path = "/proc/self/fd/" + std::to_string(current_parent_) + "/" + current_name_;
  return read_xattrs(
      [&](char* names, std::size_t size) { return ::llistxattr(path.c_str(), names, size); },
      [&](const char* name, void* value, std::size_t size) {
        return ::lgetxattr(path.c_str(), name, value, size);
      });
}

std::map<std::string, std::string> file_xattrs(int fd) {
  return read_xattrs([&](char* names, std::size_t size) { return ::flistxattr(fd, names, size); },
                     [&](const char* name, void* value, std::size_t size) {
                       return ::fgetxattr(fd, name, value, size);
                     });
}

}  // namespace kestrum
