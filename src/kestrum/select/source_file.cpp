#include "kestrum/select/source_file.h"

#include <grp.h>
#include <linux/magic.h>
#include <pwd.h>
#include <sys/vfs.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>

#include "kestrum/base/error.h"

namespace kestrum {

bool same_stat(const struct stat& a, const struct stat& b) {
  return a.st_dev == b.st_dev && a.st_ino == b.st_ino && a.st_size == b.st_size &&
         FileTime(a.st_mtim) == FileTime(b.st_mtim) && FileTime(a.st_ctim) == FileTime(b.st_ctim);
}

ssize_t read_some(int fd, std::uint64_t offset, std::span<std::uint8_t> out) {
  for (;;) {
    ssize_t n = ::pread(fd, out.data(), out.size(), static_cast<off_t>(offset));
    if (n >= 0 || errno != EINTR) return n;
  }
}

std::optional<Digest> digest_of_file(int fd, const StopRequest& stop) {
  Digester digester;
  Bytes buffer(1 << 20);
  for (std::uint64_t at = 0;;) {
    if (stop && stop()) throw Error(ErrorKind::kStopped, "stopped");
    ssize_t n = read_some(fd, at, buffer);
    if (n < 0) return std::nullopt;
    if (n == 0) return digester.finish();
    digester.update({buffer.data(), static_cast<std::size_t>(n)});
    at += static_cast<std::uint64_t>(n);
  }
}

bool has_lasting_inodes(int fd) {
  struct statfs fs {};
  if (::fstatfs(fd, &fs) != 0) return true;
  constexpr std::array<unsigned long, 6> kPassing = {MSDOS_SUPER_MAGIC, EXFAT_SUPER_MAGIC,
                                                     SMB_SUPER_MAGIC,   CIFS_SUPER_MAGIC,
                                                     SMB2_SUPER_MAGIC,  0x65735546 /* FUSE */};
  auto type = static_cast<unsigned long>(fs.f_type) & 0xffffffff;
  return std::find(kPassing.begin(), kPassing.end(), type) == kPassing.end();
}

const std::string& OwnerNames::user(uid_t uid) {
  auto it = users_.find(uid);
  if (it != users_.end()) return it->second;
  const passwd* entry = ::getpwuid(uid);
  return users_[uid] = entry == nullptr ? "" : entry->pw_name;
}

const std::string& OwnerNames::group(gid_t gid) {
  auto it = groups_.find(gid);
  if (it != groups_.end()) return it->second;
  const ::group* entry = ::getgrgid(gid);
  return groups_[gid] = entry == nullptr ? "" : entry->gr_name;
}

}  // namespace kestrum
