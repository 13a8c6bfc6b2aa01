#include "kestrum/inspect/against_source.h"

#include <sys/stat.h>

#include <cerrno>

#include "kestrum/base/error.h"
#include "kestrum/select/source_file.h"
#include "kestrum/select/source_tree.h"

namespace kestrum {
namespace {

bool looks_as_then(const struct stat& st, const IndexEntry& then) {
  const Entry& entry = then.line.entry;
  return !then.unsure && static_cast<std::uint64_t>(st.st_size) == entry.size &&
         FileTime(st.st_mtim) == entry.mtime && FileTime(st.st_ctim) == entry.ctime &&
         (then.inode == 0 || then.inode == st.st_ino);
}

SourceFinding look_at_file(const SourceTree& source, const IndexEntry& then,
                           const StopRequest& stop, std::uint64_t& bytes) {
  const Entry& entry = then.line.entry;
  struct stat st {
  }, after{};
  if (!source.look(entry.path, st)) {
    bool gone = errno == ENOENT || errno == ENOTDIR;
    return gone ? SourceFinding::kGoneSince : SourceFinding::kFailed;
  }
  if (!S_ISREG(st.st_mode)) return SourceFinding::kChangedSince;
  bool as_then = looks_as_then(st, then);
  if (static_cast<std::uint64_t>(st.st_size) != entry.size) return SourceFinding::kChangedSince;
  Fd fd = source.open_file(entry.path);
  if (!fd) return SourceFinding::kFailed;
  auto digest = digest_of_file(fd.get(), stop);
  if (!digest) return SourceFinding::kFailed;
  bytes += entry.size;
  if (then.line.digest == digest) return SourceFinding::kSame;
  bool still = ::fstat(fd.get(), &after) == 0 && same_stat(st, after);
  return as_then && still ? SourceFinding::kWrong : SourceFinding::kChangedSince;
}

}  // namespace

const char* finding_name(SourceFinding finding) {
  static constexpr const char* kNames[] = {"same", "changed since", "gone since", "WRONG",
                                           "cannot be read"};
  return kNames[static_cast<std::size_t>(finding)];
}

SourceTotals hold_against_source(
    ReadSession& session, SetId set, const StopRequest& stop, Observer& observer,
    const std::function<void(SourceFinding, const std::string&)>& visit) {
  SourceTotals totals;
  SourceTree source(root_paths(session.set(set)));
  Index::Cursor files = session.index().state_at(set);
  IndexEntry then;
  std::uint64_t seen = 0;
  while (files.next(then)) {
    if (then.line.entry.type != EntryType::kFile) continue;
    if (stop && stop()) throw Error(ErrorKind::kStopped, "stopped");
    std::string path = "/" + then.line.entry.path;
    observer.progress({"comparing", ++seen, 0, totals.bytes, 0, path});
    SourceFinding finding = look_at_file(source, then, stop, totals.bytes);
    ++totals.files[static_cast<std::size_t>(finding)];
    if (finding != SourceFinding::kSame) visit(finding, path);
  }
  return totals;
}

}  // namespace kestrum
