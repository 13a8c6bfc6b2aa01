#include "kestrum/place/local_place.h"

#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <mutex>
#include <vector>

#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"

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
      : fd_(std::move(fd)), size_(size), name_(std::move(name)), direct_(direct) {}

  std::uint64_t size() const override { return size_; }

  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) override {
    if (direct_) return read_direct(offset, out);
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

  using Buffer = std::unique_ptr<std::uint8_t, Free>;
  static Buffer new_buffer() {
    auto* bytes = static_cast<std::uint8_t*>(std::aligned_alloc(kDirectAlignment, kDirectBuffer));
    if (bytes == nullptr) throw std::bad_alloc();
    return Buffer(bytes);
  }

  void read_direct(std::uint64_t offset, std::span<std::uint8_t> out) {
    Buffer buffer;  // one for each thread that reads at a time
    {
      std::lock_guard lock(mutex_);
      if (!spare_.empty()) {
        buffer = std::move(spare_.back());
        spare_.pop_back();
      }
    }
    if (!buffer) buffer = new_buffer();
    while (!out.empty()) {
      std::uint64_t aligned = offset / kDirectAlignment * kDirectAlignment;
      ssize_t n = ::pread(fd_.get(), buffer.get(), kDirectBuffer, static_cast<off_t>(aligned));
      if (n < 0 && errno == EINTR) continue;
      if (n < 0) throw unreadable(errno, name_);
      std::uint64_t skip = offset - aligned;
      if (static_cast<std::uint64_t>(n) <= skip) {
        throw Error(ErrorKind::kDamage, name_ + ": ends too early");
      }
      std::size_t taken = std::min<std::uint64_t>(out.size(), static_cast<std::uint64_t>(n) - skip);
      std::copy_n(buffer.get() + skip, taken, out.begin());
      out = out.subspan(taken);
      offset += taken;
    }
    std::lock_guard lock(mutex_);
    spare_.push_back(std::move(buffer));
  }

  Fd fd_;
  std::uint64_t size_;
  std::string name_;
  bool direct_;
  std::mutex mutex_;
  std::vector<Buffer> spare_;  // for direct reading
};

// As a place understands it: "." is the folder itself too.
std::string below_root(const std::string& path) {
  return path == "." ? "" : path;
}

}  // namespace

LocalPlace::LocalPlace(const std::string& place, const std::string& folder)
    : folder_(path_below(place, folder)) {
  root_ = open_named(place, O_RDONLY | O_DIRECTORY);
  if (root_ && !folder.empty()) root_ = below::open_folder(root_.get(), folder);
  if (!root_ && errno == ELOOP) {
    throw Error(ErrorKind::kPlace, folder_ + ": a link is in the way of a folder",
                "a shelf and its folders are never links; nothing was read or written")
        .about_path(folder_);
  }
  if (!root_) throw system_error(errno, folder_, ErrorKind::kPlace).about_path(folder_);
}

bool LocalPlace::exists(const std::string& path) {
  struct stat st {};
  if (below::look(root_.get(), below_root(path), st)) return true;
  if (errno == ENOENT || errno == ENOTDIR || errno == ENAMETOOLONG) return false;
  throw place_error(errno, full(path));
}

std::vector<PlaceEntry> LocalPlace::list(const std::string& path) {
  Fd folder = below::open_folder(root_.get(), below_root(path));
  if (!folder && errno == ENOENT) return {};
  std::vector<std::string> names;
  if (!folder || !below::list(folder.get(), names)) throw place_error(errno, full(path));
  std::vector<PlaceEntry> entries;
  for (const std::string& name : names) {
    struct stat st {};
    if (!below::look(folder.get(), name, st)) {
      if (errno == ENOENT) continue;
      if (place_is_gone(errno)) throw place_error(errno, full(path));
      // It is there; who opens it is told what is wrong with it.
      Fd inside = below::open_passage(folder.get(), name);
      entries.push_back({name, static_cast<bool>(inside), 0});
      continue;
    }
    entries.push_back({name, S_ISDIR(st.st_mode), static_cast<std::uint64_t>(st.st_size)});
  }
  return entries;
}

void LocalPlace::make_folder(const std::string& path) {
  if (path.empty() || path == ".") return;
  make_folder(folder_above(path));
  if (below::make_folder(root_.get(), path)) return;
  int why = errno;
  struct stat st {};
  if (why == EEXIST && below::look(root_.get(), path, st)) {
    if (S_ISDIR(st.st_mode)) return;
    throw Error(ErrorKind::kFailed, full(path) + ": a link or a file is in the way of a folder")
        .about_path(full(path));
  }
  throw place_error(why, full(path));
}

// What has the name already is not written to, whatever it is: a device, a FIFO, a file that has
// another name elsewhere.
std::unique_ptr<PlaceFile> LocalPlace::create(const std::string& path) {
  Fd fd = below::create(root_.get(), path);
  if (!fd && errno == EEXIST && below::remove(root_.get(), path)) {
    fd = below::create(root_.get(), path);
  }
  if (!fd) throw place_error(errno, full(path));
  return std::make_unique<LocalFile>(std::move(fd), full(path));
}

std::unique_ptr<ByteSource> LocalPlace::open(const std::string& path, bool from_disk) {
  Fd fd = below::open_regular(root_.get(), path, O_RDONLY);
  if (!fd) {
    bool damage = errno == ENOENT || errno == EIO || errno == ELOOP || errno == kNotRegular;
    throw(damage ? unreadable(errno, full(path)) : place_error(errno, full(path)))
        .about_path(full(path));
  }
  struct stat st {};
  if (::fstat(fd.get(), &st) != 0) throw place_error(errno, full(path));
  bool direct = false;
  if (from_disk) {
    // What the cache holds must not answer for the disk: read around it, or at least empty it.
    Fd around = below::open_regular(root_.get(), path, O_RDONLY | O_DIRECT);
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
  if (!below::rename(root_.get(), from, root_.get(), to)) throw place_error(errno, full(to));
}

void LocalPlace::remove_file(const std::string& path) {
  if (!below::remove(root_.get(), path) && errno != ENOENT) throw place_error(errno, full(path));
}

void LocalPlace::remove_folder(const std::string& path) {
  if (!below::remove_tree(root_.get(), path) && errno != ENOENT) {
    throw place_error(errno, full(path));
  }
}

void LocalPlace::overwrite(const std::string& path) {
  Fd fd = below::open_regular(root_.get(), path, O_WRONLY);
  struct stat st {};
  if (!fd) {
    if (errno == ENOENT) return;
    throw place_error(errno, full(path));
  }
  if (::fstat(fd.get(), &st) != 0) throw place_error(errno, full(path));
  if (st.st_nlink > 1) {
    throw Error(ErrorKind::kFailed, full(path) + ": it has another name elsewhere",
                "nothing was written over; find the other name: find -samefile")
        .about_path(full(path));
  }
  for (off_t at = 0; at < st.st_size;) {
    Bytes some = noise(std::min(static_cast<std::uint64_t>(st.st_size - at), kNoiseAtOnce));
    ssize_t n = ::pwrite(fd.get(), some.data(), some.size(), at);
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw place_error(errno, full(path));
    at += n;
  }
  if (::fsync(fd.get()) != 0) throw place_error(errno, full(path));
}

void LocalPlace::sync_folder(const std::string& path) {
  Fd fd = below::open_folder(root_.get(), below_root(path));
  if (!fd) throw place_error(errno, full(path));
  if (::fsync(fd.get()) != 0 && errno != EINVAL) throw place_error(errno, full(path));
}

std::optional<Room> LocalPlace::room() {
  struct statvfs st {};
  if (::fstatvfs(root_.get(), &st) != 0) throw place_error(errno, folder_);
  return Room{static_cast<std::uint64_t>(st.f_bavail) * st.f_frsize,
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
  struct stat st {};
  // A folder can be held as well as a file; a FIFO or a device is not opened.
  bool can = below::look(root_.get(), below_root(path), st) &&
             (S_ISREG(st.st_mode) || S_ISDIR(st.st_mode));
  Fd file = can ? below::open(root_.get(), below_root(path), O_RDONLY | O_NONBLOCK) : Fd();
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
