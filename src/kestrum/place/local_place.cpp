#include "kestrum/place/local_place.h"

#include <dirent.h>
#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"

namespace kestrum {
namespace {

constexpr std::size_t kDirectAlignment = 4096;
constexpr std::size_t kDirectBuffer = 1 << 20;
constexpr std::uint64_t kWriteback = 16 << 20;

// The disk or share itself went away, whatever file it was noticed at.
bool place_is_gone(int error_number) {
  switch (error_number) {
    case ENODEV:
    case ENXIO:
    case ENOMEDIUM:
    case ESTALE:
    case ENOTCONN:
    case ECONNABORTED:
    case ECONNRESET:
    case ECONNREFUSED:
    case ESHUTDOWN:
    case EHOSTDOWN:
    case EHOSTUNREACH:
    case ENETDOWN:
    case ENETUNREACH:
    case ETIMEDOUT:
      return true;
    default:
      return false;
  }
}

Error place_error(int error_number, const std::string& what) {
  if (place_is_gone(error_number)) {
    return Error(ErrorKind::kPlace,
                 what + ": the disk or share is not there any more: " + errno_text(error_number),
                 "plug it in or connect it again");
  }
  if (error_number == EIO) {
    return Error(ErrorKind::kPlace, what + ": " + errno_text(error_number),
                 "the disk was pulled out or is dying: dmesg tells which; check it before it is "
                 "trusted again");
  }
  if (error_number == EROFS) {
    return Error(ErrorKind::kPlace, what + ": it cannot be written: " + errno_text(error_number),
                 "it is mounted read-only, or was turned so after an error: dmesg tells which");
  }
  return system_error(error_number, what, ErrorKind::kFailed);
}

// A sector that cannot be read is damage of the file it belongs to.
Error unreadable(int error_number, const std::string& what) {
  if (place_is_gone(error_number)) return place_error(error_number, what);
  return Error(ErrorKind::kDamage, what + ": " + errno_text(error_number));
}

class LocalFile : public PlaceFile {
 public:
  LocalFile(Fd fd, std::string name) : fd_(std::move(fd)), name_(std::move(name)) {}

  void write(ByteView bytes) override {
    std::size_t length = bytes.size();
    while (!bytes.empty()) {
      ssize_t n = ::write(fd_.get(), bytes.data(), bytes.size());
      if (n < 0 && errno == EINTR) continue;
      if (n < 0) throw take_back(errno);
      bytes = bytes.subspan(static_cast<std::size_t>(n));
    }
    size_ += length;
    // The disk starts on it now, so that little is left to wait for when the file is synced.
    if (size_ - begun_ >= kWriteback) {
      ::sync_file_range(fd_.get(), static_cast<off_t>(begun_), static_cast<off_t>(size_ - begun_),
                        SYNC_FILE_RANGE_WRITE);
      begun_ = size_;
    }
  }
  void sync() override {
    if (::fsync(fd_.get()) != 0) throw place_error(errno, name_);
  }

 private:
  // Drops what a write that failed has left, so that it can be tried again.
  Error take_back(int error_number) {
    auto size = static_cast<off_t>(size_);
    bool back = ::ftruncate(fd_.get(), size) == 0 && ::lseek(fd_.get(), size, SEEK_SET) == size;
    return place_error(back ? error_number : EIO, name_);
  }

  Fd fd_;
  std::string name_;
  std::uint64_t size_ = 0, begun_ = 0;  // bytes; the disk was told to write those up to begun_
};

class LocalSource : public ByteSource {
 public:
  LocalSource(Fd fd, std::uint64_t size, bool direct, std::string name)
      : fd_(std::move(fd)), size_(size), name_(std::move(name)) {
    if (direct) {
      buffer_.reset(
          static_cast<std::uint8_t*>(std::aligned_alloc(kDirectAlignment, kDirectBuffer)));
    }
  }

  std::uint64_t size() const override { return size_; }

  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) override {
    if (buffer_) return read_direct(offset, out);
    while (!out.empty()) {
      ssize_t n = ::pread(fd_.get(), out.data(), out.size(), static_cast<off_t>(offset));
      if (n < 0 && errno == EINTR) continue;
      if (n < 0) throw unreadable(errno, name_);
      if (n == 0) throw Error(ErrorKind::kDamage, name_ + ": ends too early");
      out = out.subspan(static_cast<std::size_t>(n));
      offset += static_cast<std::uint64_t>(n);
    }
  }

 private:
  struct Free {
    void operator()(std::uint8_t* p) const { std::free(p); }
  };

  void read_direct(std::uint64_t offset, std::span<std::uint8_t> out) {
    while (!out.empty()) {
      std::uint64_t aligned = offset / kDirectAlignment * kDirectAlignment;
      ssize_t n = ::pread(fd_.get(), buffer_.get(), kDirectBuffer, static_cast<off_t>(aligned));
      if (n < 0 && errno == EINTR) continue;
      if (n < 0) throw unreadable(errno, name_);
      std::uint64_t skip = offset - aligned;
      if (static_cast<std::uint64_t>(n) <= skip) {
        throw Error(ErrorKind::kDamage, name_ + ": ends too early");
      }
      std::size_t taken = std::min<std::uint64_t>(out.size(), static_cast<std::uint64_t>(n) - skip);
      std::copy_n(buffer_.get() + skip, taken, out.begin());
      out = out.subspan(taken);
      offset += taken;
    }
  }

  Fd fd_;
  std::uint64_t size_;
  std::string name_;
  std::unique_ptr<std::uint8_t, Free> buffer_;
};

const char* relative(const std::string& path) {
  return path.empty() ? "." : path.c_str();
}

}  // namespace

LocalPlace::LocalPlace(std::string folder) : folder_(std::move(folder)) {
  root_ = ::open(folder_.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  if (root_ < 0) throw system_error(errno, folder_, ErrorKind::kPlace).about_path(folder_);
}

LocalPlace::~LocalPlace() {
  ::close(root_);
}

bool LocalPlace::exists(const std::string& path) {
  if (::faccessat(root_, relative(path), F_OK, AT_SYMLINK_NOFOLLOW) == 0) return true;
  if (errno == ENOENT || errno == ENOTDIR || errno == ENAMETOOLONG) return false;
  throw place_error(errno, full(path));
}

std::vector<PlaceEntry> LocalPlace::list(const std::string& path) {
  int fd = ::openat(root_, relative(path), O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW);
  if (fd < 0 && errno == ENOENT) return {};
  if (fd < 0) throw place_error(errno, full(path));
  DIR* dir = ::fdopendir(fd);
  if (dir == nullptr) {
    ::close(fd);
    throw place_error(errno, full(path));
  }
  std::vector<PlaceEntry> entries;
  int failed = 0;
  for (;;) {
    errno = 0;
    dirent* e = ::readdir(dir);
    if (e == nullptr) break;
    std::string name = e->d_name;
    if (name == "." || name == "..") continue;
    struct stat st {};
    if (::fstatat(fd, e->d_name, &st, AT_SYMLINK_NOFOLLOW) != 0) {
      if (errno == ENOENT) continue;
      if (place_is_gone(errno)) failed = errno;
      // It is there; who opens it is told what is wrong with it.
      entries.push_back({name, e->d_type == DT_DIR, 0});
      continue;
    }
    entries.push_back({name, S_ISDIR(st.st_mode), static_cast<std::uint64_t>(st.st_size)});
  }
  if (errno != 0) failed = errno;
  ::closedir(dir);
  if (failed != 0) throw place_error(failed, full(path));
  std::sort(entries.begin(), entries.end(),
            [](const PlaceEntry& a, const PlaceEntry& b) { return a.name < b.name; });
  return entries;
}

void LocalPlace::make_folder(const std::string& path) {
  if (path.empty() || path == ".") return;
  make_folder(parent_of(path) == "." ? "" : parent_of(path));
  if (::mkdirat(root_, path.c_str(), 0700) != 0 && errno != EEXIST) {
    throw place_error(errno, full(path));
  }
}

std::unique_ptr<PlaceFile> LocalPlace::create(const std::string& path) {
  Fd fd(::openat(root_, path.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW | O_CLOEXEC, 0600));
  if (!fd) throw place_error(errno, full(path));
  return std::make_unique<LocalFile>(std::move(fd), full(path));
}

std::unique_ptr<ByteSource> LocalPlace::open(const std::string& path, bool from_disk) {
  constexpr int kFlags = O_RDONLY | O_NOFOLLOW | O_CLOEXEC | O_NONBLOCK;
  Fd fd(::openat(root_, path.c_str(), kFlags));
  if (!fd) {
    bool damage = errno == ENOENT || errno == EIO || errno == ELOOP;
    throw(damage ? unreadable(errno, full(path)) : place_error(errno, full(path)))
        .about_path(full(path));
  }
  struct stat st {};
  if (::fstat(fd.get(), &st) != 0) throw place_error(errno, full(path));
  if (!S_ISREG(st.st_mode)) {
    throw Error(ErrorKind::kDamage, full(path) + ": not a regular file").about_path(full(path));
  }
  bool direct = false;
  if (from_disk) {
    // What the cache holds must not answer for the disk: read around it, or at least empty it.
    Fd around(::openat(root_, path.c_str(), kFlags | O_DIRECT));
    if (around) {
      fd = std::move(around);
      direct = true;
    } else {
      ::posix_fadvise(fd.get(), 0, 0, POSIX_FADV_DONTNEED);
    }
  }
  return std::make_unique<LocalSource>(std::move(fd), static_cast<std::uint64_t>(st.st_size),
                                       direct, full(path));
}

void LocalPlace::rename(const std::string& from, const std::string& to) {
  if (::renameat(root_, from.c_str(), root_, to.c_str()) != 0) throw place_error(errno, full(to));
}

void LocalPlace::remove_file(const std::string& path) {
  if (::unlinkat(root_, path.c_str(), 0) != 0 && errno != ENOENT) {
    throw place_error(errno, full(path));
  }
}

void LocalPlace::remove_folder(const std::string& path) {
  for (const PlaceEntry& entry : list(path)) {
    std::string below = path + "/" + entry.name;
    if (entry.is_folder) {
      remove_folder(below);
    } else {
      remove_file(below);
    }
  }
  if (::unlinkat(root_, path.c_str(), AT_REMOVEDIR) != 0 && errno != ENOENT) {
    throw place_error(errno, full(path));
  }
}

void LocalPlace::sync_folder(const std::string& path) {
  Fd fd(::openat(root_, relative(path), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!fd) throw place_error(errno, full(path));
  if (::fsync(fd.get()) != 0 && errno != EINVAL) throw place_error(errno, full(path));
}

Room LocalPlace::room() {
  struct statvfs st {};
  if (::fstatvfs(root_, &st) != 0) throw place_error(errno, folder_);
  return {static_cast<std::uint64_t>(st.f_bavail) * st.f_frsize,
          static_cast<std::uint64_t>(st.f_blocks) * st.f_frsize};
}

namespace {

class FileLock : public PlaceHold {
 public:
  explicit FileLock(Fd file) : file_(std::move(file)) {}

 private:
  Fd file_;
};

}  // namespace

std::unique_ptr<PlaceHold> LocalPlace::lock(const std::string& path, int kind) {
  Fd file(::openat(root_, relative(path), O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC));
  bool in_use = file && ::flock(file.get(), kind | LOCK_NB) != 0 && errno == EWOULDBLOCK;
  if (in_use) return nullptr;
  return std::make_unique<FileLock>(std::move(file));
}

std::unique_ptr<PlaceHold> LocalPlace::hold(const std::string& path) {
  return lock(path, LOCK_SH);
}

std::unique_ptr<PlaceHold> LocalPlace::take(const std::string& path) {
  return lock(path, LOCK_EX);
}

}  // namespace kestrum
