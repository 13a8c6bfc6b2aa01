#include "kestrum/backup/cut_entry.h"

#include <sys/stat.h>

#include <algorithm>

#include "kestrum/archive/tar_format.h"
#include "kestrum/archive/tar_head.h"
#include "kestrum/backup/continuation.h"
#include "kestrum/backup/listed_content.h"
#include "kestrum/plan/change_detector.h"
#include "kestrum/plan/change_tally.h"
#include "kestrum/select/walk.h"

namespace kestrum {
namespace {

// Whether the file still begins with the `held` bytes that lie in the parts; they are digested.
bool begins_as_it_did(Fd& fd, const CutEntry& cut, std::uint64_t held, ContentFeed& feed,
                      Digester& digester, ListedContent* list) {
  feed.set_phase("looking");
  bool readable = true;
  for (std::uint64_t done = 0; done < held && readable;) {
    feed.check_stop();
    auto room = feed.buffer().first(std::min<std::uint64_t>(1 << 20, held - done));
    ssize_t n = read_some(fd.get(), done, room);
    readable = n > 0;
    if (!readable) break;
    digester.update(room.first(static_cast<std::size_t>(n)));
    if (list != nullptr) list->add(done, room.first(static_cast<std::size_t>(n)));
    done += static_cast<std::uint64_t>(n);
    feed.report(cut.file->path);
  }
  feed.set_phase("copying");
  return readable && (held == 0 || digester.finish() == cut.so_far);
}

// The bytes that were copied; nothing if the file cannot be gone on with.
std::optional<std::uint64_t> finish_with_file(const CutEntry& cut, Index& index, SetWriter& writer,
                                              ContentFeed& feed, OwnerNames& owners,
                                              const SourceTree& source, bool listed) {
  Fd fd = source.open_file(cut.file->path);
  struct stat st {
  }, after{};
  if (!fd || ::fstat(fd.get(), &st) != 0 || !is_as_it_was(*cut.file, st) ||
      data_runs(fd.get(), st)) {
    return std::nullopt;
  }
  IndexEntry entry;
  Entry& e = entry.line.entry;
  e = describe(owners, cut.file->path, st);
  e.xattrs = file_xattrs(fd.get()).values;
  e.size = cut.file->size;
  std::uint64_t content = cut.start + tar_entry_head(e).size(), at = writer.tar_offset();
  bool fits = content <= at && content + e.size + tar_padding(e.size) == cut.end;
  if (!fits) return std::nullopt;
  std::uint64_t held = std::min(at - content, e.size);
  Digester digester;
  std::optional<ListedContent> content_list;
  if (listed) content_list.emplace(index, cut.start, cut.path);
  ListedContent* list = content_list ? &*content_list : nullptr;
  if (!begins_as_it_did(fd, cut, held, feed, digester, list)) return std::nullopt;
  std::vector<DataRun> without_holes = {{0, e.size}};
  ContentFeed::Read read = feed.read(fd, {e, without_holes, held, true, list}, digester);
  if (list != nullptr) list->finish();
  writer.append_zeros(cut.end - writer.tar_offset());
  std::uint64_t copied = e.size - held;
  if (!read.complete || ::fstat(fd.get(), &after) != 0 || !same_stat(st, after)) return copied;
  entry.line.digest = digester.finish();
  entry.line.noise = begins_like_noise(fd.get());
  entry.line.tar_offset = cut.start;
  entry.inode = st.st_ino;
  entry.unsure = is_unsure(e.mtime, e.ctime, fd.get());
  index.put_carried(entry);
  index.journal_dead({cut.start, cut.path, DeadEntry::Why::kReplaced});
  return copied;
}

}  // namespace

Entry describe(OwnerNames& owners, const std::string& path, const struct stat& st) {
  Entry entry;
  entry.path = path;
  entry.mtime = FileTime(st.st_mtim);
  entry.ctime = FileTime(st.st_ctim);
  entry.mode = st.st_mode & 07777;
  entry.uid = st.st_uid;
  entry.gid = st.st_gid;
  entry.user = owners.user(entry.uid);
  entry.group = owners.group(entry.gid);
  return entry;
}

std::uint64_t finish_cut_entry(const CutEntry& cut, Index& index, SetWriter& writer,
                               ContentFeed& feed, OwnerNames& owners, const SourceTree& source,
                               bool listed) {
  if (cut.end <= writer.tar_offset()) return 0;
  writer.go_on_with(cut);
  if (cut.head) {
    std::uint64_t written = writer.tar_offset() - cut.start;
    writer.append(as_bytes(*cut.head).subspan(written));
  }
  // Unless it turns out to hold its file whole.
  index.journal_dead({cut.start, cut.path, DeadEntry::Why::kCut});
  index.drop_carried(cut.path);  // plain tar would not get at an earlier entry of this name
  if (cut.file) {
    if (auto copied = finish_with_file(cut, index, writer, feed, owners, source, listed))
      return *copied;
  }
  CutEntry lost = cut;
  lost.file.reset();
  writer.go_on_with(lost);
  writer.append_zeros(cut.end - writer.tar_offset());
  return 0;
}

}  // namespace kestrum
