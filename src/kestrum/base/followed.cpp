#include "kestrum/base/followed.h"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <climits>
#include <deque>

#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr int kMostLinks = 40;  // as many as the kernel follows
constexpr int kOnTheWay = O_PATH | O_DIRECTORY | O_CLOEXEC;

class Following {
 public:
  Following(int folder, const std::string& path) {
    at_.parent.reset(path.starts_with('/') ? ::open("/", kOnTheWay)
                                           : ::openat(folder, ".", kOnTheWay));
    push(path);
  }

  Followed run() {
    while (at_.parent && !names_.empty()) {
      std::string name = std::move(names_.front());
      names_.pop_front();
      if (!step(name)) at_.parent.reset();
    }
    return std::move(at_);
  }

 private:
  void push(const std::string& path) {
    std::vector<std::string> names = split(path, '/');
    for (auto name = names.rbegin(); name != names.rend(); ++name) {
      if (!name->empty() && *name != ".") names_.push_front(std::move(*name));
    }
  }

  bool step(const std::string& name) {
    if (name == "..") return enter("..");
    // O_PATH: what is named is held, and is what is asked about.
    Fd thing(::openat(at_.parent.get(), name.c_str(), O_PATH | O_NOFOLLOW | O_CLOEXEC));
    struct stat st {};
    if (!thing && names_.empty() && errno == ENOENT) {
      at_.name = name;
      return true;
    }
    if (!thing || ::fstat(thing.get(), &st) != 0) return false;
    if (S_ISLNK(st.st_mode)) return follow_link(thing.get(), st);
    if (!names_.empty()) return enter(name);
    at_.name = name;
    return true;
  }

  bool enter(const std::string& name) {
    Fd folder(::openat(at_.parent.get(), name.c_str(), kOnTheWay | O_NOFOLLOW));
    if (!folder) return false;
    at_.parent = std::move(folder);
    return true;
  }

  bool follow_link(int link, const struct stat& st) {
    if (++links_ > kMostLinks) {
      errno = ELOOP;
      return false;
    }
    struct stat folder {};
    if (::fstat(at_.parent.get(), &folder) != 0) return false;
    bool of_root = st.st_uid == 0 && folder.st_uid == 0;
    bool own = ::geteuid() != 0 && st.st_uid == ::geteuid();
    if (!of_root && !own) at_.owners.push_back(st.st_uid);
    std::string target(PATH_MAX, '\0');
    ssize_t n = ::readlinkat(link, "", target.data(), target.size());
    if (n <= 0) return false;
    target.resize(static_cast<std::size_t>(n));
    push(target);
    if (!target.starts_with('/')) return true;
    at_.parent.reset(::open("/", kOnTheWay));
    return static_cast<bool>(at_.parent);
  }

  Followed at_;
  std::deque<std::string> names_;
  int links_ = 0;
};

}  // namespace

bool Followed::allows(const struct stat& st) const {
  return owners_allow(owners, st);
}

bool owners_allow(const std::vector<uid_t>& owners, const struct stat& st) {
  bool allowed =
      std::all_of(owners.begin(), owners.end(), [&](uid_t owner) { return owner == st.st_uid; });
  if (!allowed) errno = kForeignLink;
  return allowed;
}

Followed follow(int folder, const std::string& path) {
  return Following(folder, path).run();
}

Fd open_named(const std::string& path, int flags) {
  Followed at = follow(AT_FDCWD, path);
  struct stat st {};
  // Looked at first, so that nothing is opened that may not be.
  if (!at || !below::look(at.parent.get(), at.name, st) || !at.allows(st)) return Fd();
  Fd fd = below::open(at.parent.get(), at.name, flags);
  if (fd && (::fstat(fd.get(), &st) != 0 || !at.allows(st))) return Fd();
  return fd;
}

bool look_named(const std::string& path, struct stat& st) {
  Followed at = follow(AT_FDCWD, path);
  return at && below::look(at.parent.get(), at.name, st) && at.allows(st);
}

bool is_named_folder(const std::string& path) {
  struct stat st {};
  return look_named(path, st) && S_ISDIR(st.st_mode);
}

bool is_named(const std::string& path) {
  Followed above = follow(AT_FDCWD, parent_of(path));
  if (!above) return errno != ENOENT && errno != ENOTDIR;
  Fd folder = below::open_passage(above.parent.get(), above.name);
  if (!folder) return errno != ENOENT && errno != ENOTDIR;
  return path == "/" || below::exists(folder.get(), base_name(path));
}

bool is_mounted_on(const std::string& path) {
  struct stat st {
  }, above{};
  return look_named(path, st) && look_named(parent_of(path), above) && st.st_dev != above.st_dev;
}

}  // namespace kestrum
