#include "kestrum/access/tar_names.h"

#include <algorithm>
#include <optional>

#include "kestrum/archive/set_reader.h"
#include "kestrum/archive/tar_reader.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"

namespace kestrum {
namespace {

// The deepest folder that holds both; "" is "/".
std::string common_parent(const std::string& folder, std::string path) {
  while (!path.empty() && path != folder && !folder.starts_with(path + "/")) {
    std::size_t slash = path.rfind('/');
    path.resize(slash == std::string::npos ? 0 : slash);
  }
  return path;
}

class TarNamesReader {
 public:
  TarNamesReader(const Shelf& shelf, const ShelfSet& set, std::span<const Identity> identities,
                 Index& index, Observer& observer)
      : reader_(shelf.place(),
                SetStream{set.folder, set.seal.parts, set.seal.encrypted(), set.seal.compressed},
                identities),
        set_(set),
        stretches_folder_(stretches_folder(set.seal.shelf)),
        index_(index),
        observer_(observer) {}

  TarNames run() {
    std::uint64_t offset = 0;
    for (bool end = false;;) {
      TarEntry entry;
      try {
        entry = read_tar_entry(reader_, offset, set_.folder, end);
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::kDamage || names_.entries == 0) throw;
        names_.cut_short = true;
        break;
      }
      if (end) break;
      ++names_.entries;
      take(entry, offset);
      offset = entry.next_offset;
    }
    if (names_.entries == 0) throw Error(ErrorKind::kDamage, set_.folder + ": its tar is empty");
    names_.common_folder = "/" + common_.value_or("");
    return std::move(names_);
  }

 private:
  // The last entry of a name counts.
  void take(const TarEntry& tar, std::uint64_t offset) {
    observer_.progress({"reading the names in " + set_.id.to_string(), names_.entries, 0, offset, 0,
                        tar.entry.path});
    IndexEntry entry;
    entry.line.entry = tar.entry;
    Entry& e = entry.line.entry;
    if (is_within(e.path, stretches_folder_)) {  // of what file, only the ledger knew
      ++names_.stretches;
      return;
    }
    if (e.type == EntryType::kHardlink) {
      auto leader = index_.journal_find(e.target);
      if (!leader || !leader->line.digest) return;  // of what, cannot be told
      e.type = EntryType::kFile;
      e.size = leader->line.entry.size;
      e.holes = leader->line.entry.holes;
      e.target.clear();
      entry.line.digest = leader->line.digest;
      entry.line.tar_offset = leader->line.tar_offset;
      entry.line.in_path = leader->line.in_path.value_or(leader->line.entry.path);
    } else if (e.type == EntryType::kFile) {
      entry.line.tar_offset = offset;
      entry.line.digest = digest_of_content(tar);
    }
    if (index_.journal_find(e.path)) {
      index_.journal_drop(e.path);
    } else {
      ++names_.lines;
    }
    index_.journal_put(entry);
    if (e.type == EntryType::kFolder) return;
    std::string parent = parent_of("/" + e.path).substr(1);
    common_ = common_ ? common_parent(*common_, parent) : parent;
  }

  Digest digest_of_content(const TarEntry& tar) {
    Digester digester;
    std::uint64_t at = 0, stream_at = tar.content_offset;
    std::vector<DataRun> runs = tar.runs;
    if (!tar.entry.holes) runs = {{0, tar.entry.size}};
    buffer_.resize(1 << 20);
    try {
      for (const DataRun& run : runs) {
        digester.update_zeros(run.offset - at);
        for (std::uint64_t left = run.length; left > 0;) {
          std::span<std::uint8_t> piece(buffer_.data(),
                                        std::min<std::uint64_t>(left, buffer_.size()));
          reader_.read_at(stream_at, piece);
          digester.update(piece);
          stream_at += piece.size();
          left -= piece.size();
        }
        at = run.offset + run.length;
      }
      digester.update_zeros(tar.entry.size - at);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::kDamage) throw;
      ++names_.unreadable;
      return Digest{};
    }
    return digester.finish();
  }

  SetReader reader_;
  const ShelfSet& set_;
  std::string stretches_folder_;
  Index& index_;
  Observer& observer_;
  TarNames names_;
  Bytes buffer_;
  std::optional<std::string> common_;
};

}  // namespace

TarNames read_tar_names(const Shelf& shelf, const ShelfSet& set,
                        std::span<const Identity> identities, Index& index, Observer& observer) {
  return TarNamesReader(shelf, set, identities, index, observer).run();
}

}  // namespace kestrum
