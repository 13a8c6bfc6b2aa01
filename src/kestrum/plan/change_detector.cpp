#include "kestrum/plan/change_detector.h"

#include "kestrum/select/source_file.h"

namespace kestrum {

bool is_unsure(const Entry& entry) {
  constexpr Nanos kTick = 2 * kSecond;
  Nanos now = real_now();
  auto near = [&](Nanos time) { return time > now - kTick && time < now + kTick; };
  return near(entry.mtime) || near(entry.ctime);
}

bool has_content_of(const Walk& walk, const WalkEvent& event, const IndexEntry& known,
                    const StopRequest& stop) {
  const Entry& e = known.line.entry;
  if (S_ISLNK(event.st.st_mode)) {
    std::string target;
    return e.type == EntryType::kLink && walk.read_link(target) && target == e.target;
  }
  if (!S_ISREG(event.st.st_mode)) {
    return e.type == (S_ISFIFO(event.st.st_mode) ? EntryType::kFifo : EntryType::kDevice);
  }
  if (e.type != EntryType::kFile || e.size != static_cast<std::uint64_t>(event.st.st_size)) {
    return false;
  }
  Fd fd = walk.open_file();
  return fd && digest_of_file(fd.get(), stop) == known.line.digest;
}

bool ChangeDetector::lasting_inodes(const std::string& path, dev_t device) {
  auto it = lasting_.find(device);
  if (it == lasting_.end()) it = lasting_.emplace(device, has_lasting_inodes("/" + path)).first;
  return it->second;
}

bool ChangeDetector::unchanged(const std::string& path, const struct stat& st,
                               const IndexEntry& old) {
  const Entry& e = old.line.entry;
  bool same = to_nanos(st.st_mtim) == e.mtime && (st.st_mode & 07777) == e.mode &&
              st.st_uid == e.uid && st.st_gid == e.gid;
  if (e.type == EntryType::kFile) same = same && static_cast<std::uint64_t>(st.st_size) == e.size;
  return same && !old.unsure &&
         (!lasting_inodes(path, st.st_dev) ||
          (to_nanos(st.st_ctim) == e.ctime && st.st_ino == old.inode));
}

}  // namespace kestrum
