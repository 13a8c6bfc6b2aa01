// File descriptors and whole small files of the machine itself (not of a shelf: that is place/).
#pragma once

#include <sys/stat.h>

#include <cstdint>
#include <functional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "kestrum/base/bytes.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/file_time.h"

namespace kestrum {

// Owns a file descriptor.
class Fd {
 public:
  Fd() = default;
  explicit Fd(int fd) : fd_(fd) {}
  Fd(Fd&& other) noexcept : fd_(other.release()) {}
  Fd& operator=(Fd&& other) noexcept;
  ~Fd() { reset(); }

  int get() const { return fd_; }
  explicit operator bool() const { return fd_ >= 0; }
  int release() { return std::exchange(fd_, -1); }
  void reset(int fd = -1);

 private:
  int fd_ = -1;
};

inline timespec to_timespec(Nanos t) {
  Nanos seconds = t / kSecond - (t % kSecond < 0);
  return {seconds, t - seconds * kSecond};
}

bool path_exists(const std::string& path);
bool is_folder(const std::string& path);
// Creates `path` and the folders above it, mode 0700 where they are new.
void make_folders(const std::string& path);
// Names in a folder, without "." and "..", in byte order.
std::vector<std::string> list_folder(const std::string& path);

// The whole of a file; throws Error naming it if it cannot be read or is longer than `limit` bytes.
std::string read_file(const std::string& path, std::uint64_t limit = 64 << 20);
// The same of a file that is open, from where it stands.
std::string read_open_file(int fd, const std::string& path, std::uint64_t limit = 64 << 20);
// Writes beside it, fsyncs, renames over it: the file holds the old text or the new, never a half.
void write_file(const std::string& path, std::string_view text, mode_t mode = 0600);
// For tests: asked before each step of read_file and write_file, it gives the errno that the step
// fails with, or 0.
void set_file_fault(std::function<int(const std::string& path, bool writes)> fault);
void write_all(int fd, ByteView bytes, const std::string& name);
// fsync of a folder; a filesystem that cannot (EINVAL) counts as done.
void sync_folder(const std::string& path);
// Removes a folder and all that is below it, without following links or crossing into them.
void remove_tree(const std::string& path);

// Lexical: absolute against the current folder, "." and ".." and double slashes resolved.
std::string absolute_path(std::string_view path);
std::string parent_of(std::string_view path);  // "/a/b" -> "/a", "/a" -> "/"
// The same of a relative path: "a/b" -> "a", "a" -> "".
std::string folder_above(const std::string& relative);
std::string base_name(std::string_view path);
// "/a" and "b" -> "/a/b"; the folder itself where `relative` is empty.
std::string path_below(const std::string& folder, const std::string& relative);
// The other way: "/a/b" and "/a" -> "b". `path` lies within `folder`.
std::string relative_to(const std::string& path, const std::string& folder);
// Whether `path` is `folder` or lies below it.
bool is_within(std::string_view path, std::string_view folder);
bool is_within_one(std::string_view path, const std::vector<std::string>& folders);

// Allows as many open files as the system lets this process have; deep folders need one a level.
void raise_open_file_limit();

}  // namespace kestrum
