#include "kestrum/base/file.h"

#include <fcntl.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>

#include "kestrum/base/error.h"

namespace kestrum {
namespace fs = std::filesystem;
namespace {

std::function<int(const std::string&, bool)> file_fault;

void may_fail(const std::string& path, bool writes) {
  int error_number = file_fault ? file_fault(path, writes) : 0;
  if (error_number != 0) throw system_error(error_number, path).about_path(path);
}

}  // namespace

void set_file_fault(std::function<int(const std::string& path, bool writes)> fault) {
  file_fault = std::move(fault);
}

Fd& Fd::operator=(Fd&& other) noexcept {
  if (this != &other) reset(other.release());
  return *this;
}

void Fd::reset(int fd) {
  if (fd_ >= 0) ::close(fd_);
  fd_ = fd;
}

bool path_exists(const std::string& path) {
  struct stat st {};
  return ::lstat(path.c_str(), &st) == 0;
}

bool is_folder(const std::string& path) {
  struct stat st {};
  return ::stat(path.c_str(), &st) == 0 && S_ISDIR(st.st_mode);
}

void make_folders(const std::string& path) {
  if (is_folder(path)) return;
  std::string parent = parent_of(path);
  if (parent != path) make_folders(parent);
  if (::mkdir(path.c_str(), 0700) != 0 && errno != EEXIST) throw system_error(errno, path);
}

std::vector<std::string> list_folder(const std::string& path) {
  std::vector<std::string> names;
  std::error_code ec;
  for (fs::directory_iterator it(path, ec), end; !ec && it != end; it.increment(ec)) {
    names.push_back(it->path().filename().string());
  }
  if (ec) throw system_error(ec.value(), path);
  std::sort(names.begin(), names.end());
  return names;
}

std::string read_file(const std::string& path, std::uint64_t limit) {
  may_fail(path, false);
  Fd fd(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
  if (!fd) throw system_error(errno, path).about_path(path);
  return read_open_file(fd.get(), path, limit);
}

std::string read_open_file(int fd, const std::string& path, std::uint64_t limit) {
  std::string text;
  char buffer[65536];
  for (;;) {
    ssize_t n = ::read(fd, buffer, sizeof buffer);
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw system_error(errno, path).about_path(path);
    if (n == 0) return text;
    text.append(buffer, static_cast<std::size_t>(n));
    if (text.size() > limit) {
      throw Error(ErrorKind::kDamage, path + ": too long").about_path(path);
    }
  }
}

void write_all(int fd, ByteView bytes, const std::string& name) {
  while (!bytes.empty()) {
    ssize_t n = ::write(fd, bytes.data(), bytes.size());
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw system_error(errno, name).about_path(name);
    bytes = bytes.subspan(static_cast<std::size_t>(n));
  }
}

void write_file(const std::string& path, std::string_view text, mode_t mode) {
  may_fail(path, true);
  // A name of its own, since others may be writing the same file.
  std::string temporary = path + ".XXXXXX";
  Fd fd(::mkostemp(temporary.data(), O_CLOEXEC));
  if (!fd) throw system_error(errno, path).about_path(path);
  try {
    if (::fchmod(fd.get(), mode) != 0) throw system_error(errno, path);
    write_all(fd.get(), as_bytes(text), path);
    may_fail(path, true);
    if (::fsync(fd.get()) != 0 || ::rename(temporary.c_str(), path.c_str()) != 0) {
      throw system_error(errno, path);
    }
  } catch (Error& error) {
    ::unlink(temporary.c_str());
    throw error.about_path(path);
  }
  may_fail(path, true);
  sync_folder(parent_of(path));
}

void sync_folder(const std::string& path) {
  Fd fd(::open(path.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!fd) throw system_error(errno, path);
  if (::fsync(fd.get()) != 0 && errno != EINVAL) throw system_error(errno, path);
}

void remove_tree(const std::string& path) {
  std::error_code ec;
  fs::remove_all(path, ec);  // does not follow symbolic links
  if (ec) throw system_error(ec.value(), path);
}

std::string absolute_path(std::string_view path) {
  std::string text(path);
  if (text.empty() || text[0] != '/') text = fs::current_path().string() + "/" + text;
  std::vector<std::string> parts;
  for (std::size_t begin = 0; begin < text.size();) {
    std::size_t end = std::min(text.find('/', begin), text.size());
    std::string part = text.substr(begin, end - begin);
    if (part == "..") {
      if (!parts.empty()) parts.pop_back();
    } else if (!part.empty() && part != ".") {
      parts.push_back(std::move(part));
    }
    begin = end + 1;
  }
  std::string out;
  for (const auto& part : parts) out += "/" + part;
  return out.empty() ? "/" : out;
}

std::string parent_of(std::string_view path) {
  std::size_t slash = path.rfind('/');
  if (slash == std::string_view::npos) return ".";
  return slash == 0 ? "/" : std::string(path.substr(0, slash));
}

std::string base_name(std::string_view path) {
  return std::string(path.substr(path.rfind('/') + 1));
}

std::string path_below(const std::string& folder, const std::string& relative) {
  if (relative.empty()) return folder;
  return (folder == "/" ? "" : folder) + "/" + relative;
}

std::string relative_to(const std::string& path, const std::string& folder) {
  if (path.size() <= folder.size()) return "";
  return path.substr(folder.size() + (folder == "/" || folder.empty() ? 0 : 1));
}

std::string folder_above(const std::string& relative) {
  std::size_t slash = relative.rfind('/');
  return slash == std::string::npos ? "" : relative.substr(0, slash);
}

bool is_within(std::string_view path, std::string_view folder) {
  if (folder == "/" || folder.empty()) return true;
  return path.starts_with(folder) && (path.size() == folder.size() || path[folder.size()] == '/');
}

bool is_within_one(std::string_view path, const std::vector<std::string>& folders) {
  return std::any_of(folders.begin(), folders.end(),
                     [path](const std::string& folder) { return is_within(path, folder); });
}

void raise_open_file_limit() {
  rlimit limit{};
  if (getrlimit(RLIMIT_NOFILE, &limit) == 0 && limit.rlim_cur < limit.rlim_max) {
    limit.rlim_cur = limit.rlim_max;
    setrlimit(RLIMIT_NOFILE, &limit);
  }
}

}  // namespace kestrum
