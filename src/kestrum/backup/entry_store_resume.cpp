// Going on with what an interrupted run left in the parts of the set.
#include <fcntl.h>

#include <algorithm>

#include "kestrum/archive/tar_format.h"
#include "kestrum/archive/tar_head.h"
#include "kestrum/backup/change_detector.h"
#include "kestrum/backup/continuation.h"
#include "kestrum/backup/entry_store.h"
#include "kestrum/select/walk.h"

namespace kestrum {

std::optional<IndexEntry> EntryStore::carried(const std::string& path) {
  return input_.cut ? index_.carried(path) : std::nullopt;
}

void EntryStore::put_carried(IndexEntry& entry, std::uint64_t inode) {
  std::uint64_t size = entry.line.entry.size;
  ++counts_.files.seen;
  ++counts_.files.copied;
  counts_.bytes.seen += size;
  carried_bytes_ += size;
  entry.inode = inode;
  index_.journal_put(entry);
}

void EntryStore::finish_cut_entry() {
  if (!input_.cut) return;
  const CutEntry& cut = *input_.cut;
  if (cut.end <= writer_.tar_offset()) return;
  writer_.go_on_with(cut);
  if (cut.file && go_on_with_file(cut)) return;
  writer_.go_on_with({cut.start, cut.end, nullptr, {}});
  writer_.append_zeros(cut.end - writer_.tar_offset());
}

bool EntryStore::go_on_with_file(const CutEntry& cut) {
  std::string path = "/" + cut.file->path;
  Fd fd(::open(path.c_str(), O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC));
  struct stat st {
  }, after{};
  if (!fd || ::fstat(fd.get(), &st) != 0 || !S_ISREG(st.st_mode) || !is_as_it_was(*cut.file, st) ||
      data_runs(fd.get(), st)) {
    return false;
  }
  IndexEntry entry;
  Entry& e = entry.line.entry;
  e = describe(cut.file->path, st);
  e.xattrs = file_xattrs(fd.get());
  e.size = cut.file->size;
  std::uint64_t content = cut.start + tar_entry_head(e).size(), at = writer_.tar_offset();
  bool fits = content <= at && content + e.size + tar_padding(e.size) == cut.end;
  if (!fits) return false;

  // What lies in the parts must be what the file still begins with.
  std::uint64_t held = std::min(at - content, e.size);
  Digester digester;
  progress_.phase = "looking";
  for (std::uint64_t done = 0; done < held;) {
    check_stop();
    auto room = std::span(buffer_).first(std::min<std::uint64_t>(1 << 20, held - done));
    ssize_t n = read_some(fd.get(), done, room);
    if (n <= 0) return false;
    digester.update(room.first(static_cast<std::size_t>(n)));
    done += static_cast<std::uint64_t>(n);
    report_progress(e.path);
  }
  progress_.phase = "copying";
  if (held > 0 && digester.finish() != cut.so_far) return false;
  std::vector<DataRun> without_holes = {{0, e.size}};
  Read read = read_content(fd, {e, without_holes, held, true}, digester);
  large_left_ = 0;
  writer_.append_zeros(cut.end - writer_.tar_offset());
  counts_.bytes.copied += e.size - held;
  finished_bytes_ = e.size - held;
  if (!read.complete || ::fstat(fd.get(), &after) != 0 || !same_stat(st, after)) return true;
  entry.line.digest = digester.finish();
  entry.line.tar_offset = cut.start;
  entry.inode = st.st_ino;
  entry.unsure = is_unsure(e);
  index_.put_carried(entry);
  return true;
}

}  // namespace kestrum
