#include "kestrum/plan/change_detector.h"

#include <linux/magic.h>
#include <sys/vfs.h>

#include <algorithm>
#include <fstream>

#include "kestrum/select/source_file.h"

namespace kestrum {
namespace {

Nanos centiseconds_of(const char* file, Nanos otherwise) {
  std::ifstream in(file);
  std::int64_t value = 0;
  return in >> value && value >= 0 && value < 1'000'000 ? value * (kSecond / 100) : otherwise;
}

// A page that a program writes to through a mapping moves the file's time when it becomes dirty,
// and not again until it was written back: for so long what is written later leaves no trace. Twice
// that, and at least a minute.
Nanos time_of_doubt() {
  static const Nanos doubt = std::max(
      60 * kSecond, 2 * centiseconds_of("/proc/sys/vm/dirty_expire_centisecs", 30 * kSecond) +
                        centiseconds_of("/proc/sys/vm/dirty_writeback_centisecs", 5 * kSecond));
  return doubt;
}

bool is_never_written_back(int fd) {
  struct statfs fs {};
  return ::fstatfs(fd, &fs) == 0 && fs.f_type == TMPFS_MAGIC;
}

bool is_recent(FileTime mtime, FileTime ctime) {
  constexpr Nanos kTick = 2 * kSecond;  // of the coarsest filesystems
  Nanos now = real_now();
  auto near = [&](FileTime time) { return time > now - time_of_doubt() && time < now + kTick; };
  return near(mtime) || near(ctime);
}

}  // namespace

bool is_unsure(FileTime mtime, FileTime ctime, int fd) {
  return is_never_written_back(fd) || is_recent(mtime, ctime);
}

bool UnsureFiles::is_unsure(const struct stat& st, int fd) {
  if (device_ != st.st_dev) never_written_back_ = is_never_written_back(fd);
  device_ = st.st_dev;
  return never_written_back_ || is_recent(FileTime(st.st_mtim), FileTime(st.st_ctim));
}

bool has_content_of(const WalkEvent& event, const IndexEntry& known, const StopRequest& stop) {
  const Entry& e = known.line.entry;
  if (S_ISLNK(event.st.st_mode)) {
    std::string target;
    return e.type == EntryType::kLink && event.at.read_link(target) && target == e.target;
  }
  if (!S_ISREG(event.st.st_mode)) {
    return e.type == (S_ISFIFO(event.st.st_mode) ? EntryType::kFifo : EntryType::kDevice);
  }
  if (e.type != EntryType::kFile || e.size != static_cast<std::uint64_t>(event.st.st_size)) {
    return false;
  }
  Fd fd = event.at.open_file();
  return fd && digest_of_file(fd.get(), stop) == known.line.digest;
}

bool ChangeDetector::lasting_inodes(const WalkEvent& event) {
  auto it = lasting_.find(event.st.st_dev);
  if (it == lasting_.end()) {
    it = lasting_.emplace(event.st.st_dev, event.at.has_lasting_inodes()).first;
  }
  return it->second;
}

bool ChangeDetector::unchanged(const WalkEvent& event, const IndexEntry& old) {
  const Entry& e = old.line.entry;
  const struct stat& st = event.st;
  bool same = FileTime(st.st_mtim) == e.mtime && (st.st_mode & 07777) == e.mode &&
              st.st_uid == e.uid && st.st_gid == e.gid;
  if (e.type == EntryType::kFile) same = same && static_cast<std::uint64_t>(st.st_size) == e.size;
  return same && !old.unsure &&
         (!lasting_inodes(event) || (FileTime(st.st_ctim) == e.ctime && st.st_ino == old.inode));
}

}  // namespace kestrum
