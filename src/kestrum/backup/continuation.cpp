#include "kestrum/backup/continuation.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/select/source_file.h"

namespace kestrum {
namespace {

// Whether a part stayed on a disk that the shelf has gone on from. It was read back there, and is
// taken at the word of what was noted then.
bool lies_elsewhere(const Shelf& shelf, const ClosedPart& part) {
  return part.info.disk && shelf.label().earlier_disk(*part.info.disk) != nullptr;
}

// An unfinished folder of the shelf that holds the first part of those that are to be here; its
// name changes with each run.
std::optional<std::string> find_folder(const Shelf& shelf, const BegunSet& begun) {
  if (begun.parts.empty()) return std::nullopt;
  auto first = std::find_if(begun.parts.begin(), begun.parts.end(),
                            [&](const ClosedPart& part) { return !lies_elsewhere(shelf, part); });
  if (first == begun.parts.end()) return begun.folder;
  auto holds_it = [&](const std::string& folder) {
    auto files = shelf.place().list(folder);
    return std::any_of(files.begin(), files.end(), [&](const PlaceEntry& file) {
      return file.name == first->info.name && file.size == first->info.bytes;
    });
  };
  std::optional<std::string> found;
  for (const std::string& folder : shelf.leftovers()) {
    if (!folder.ends_with(kUnfinishedSuffix) || !holds_it(folder)) continue;
    if (folder == begun.folder) return folder;
    found = folder;
  }
  return found;
}

// A disk that was pulled may not hold what it said it did.
bool is_whole(Place& place, const std::string& path, ClosedPart& part, const StopRequest& stop) {
  try {
    auto file = place.open(path, true);
    if (file->size() != part.info.bytes) return false;
    part.blocks = block_digests_of(*file, stop);
    return digest_of_blocks(part.blocks) == part.info.digest;
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace || error.kind() == ErrorKind::kStopped) throw;
    return false;
  }
}

bool file_is_as_it_was(const CutEntry& cut, const SourceTree& source) {
  struct stat st {};
  return cut.file && source.look(cut.file->path, st) && is_as_it_was(*cut.file, st);
}

// The entry at the cut is lost where its file has changed. Parts that hold nothing else are of no
// use, and neither is one behind which more than a part's length of filling would follow.
void drop_useless(std::vector<ClosedPart>& parts, const SourceTree& source) {
  if (parts.empty() || parts.back().complete_until() == parts.back().tar_end) return;
  if (file_is_as_it_was(parts.back().cut, source)) return;
  std::uint64_t start = parts.back().cut.start;
  while (!parts.empty() && parts.back().info.tar_offset >= start) parts.pop_back();
  if (parts.empty()) return;
  ClosedPart& last = parts.back();
  if (last.tar_end > start) last.cut.file.reset();
  std::uint64_t filling = last.cut.end > last.tar_end ? last.cut.end - last.tar_end : 0;
  if (filling > last.tar_end - last.info.tar_offset) parts.pop_back();
}

// Plain tar cannot put another thing in the place of a folder that it has just filled.
std::optional<std::string> replaced_folder(Index& index, std::uint64_t complete_until,
                                           const SourceTree& source) {
  std::optional<std::string> replaced;
  index.each_begun_folder(complete_until, [&](const std::string& path) {
    struct stat st {};
    if (source.look(path, st) && !S_ISDIR(st.st_mode)) replaced = path;
  });
  return replaced;
}

std::string why_not_continued(const BegunSet& begun, const BegunSet& wanted) {
  if (begun.kind != wanted.kind) {
    return fmt::format("it was {}, and a {} set is due", kind_name(begun.kind),
                       kind_name(wanted.kind));
  }
  if (begun.based_on != wanted.based_on) return "another set is the base now";
  if (begun.packing != wanted.packing) return "compression, part size or key have changed";
  return "";
}

}  // namespace

std::uint64_t bytes_of(const std::vector<ClosedPart>& parts) {
  std::uint64_t sum = 0;
  for (const ClosedPart& part : parts) sum += part.info.bytes;
  return sum;
}

std::string packing_word(const Packing& packing, std::uint64_t part_size) {
  return fmt::format("{}/{}/{}", static_cast<int>(packing.level), part_size,
                     packing.recipient ? packing.recipient->to_string() : "none");
}

FoundContinuation find_continuation(const OpenShelf& open, Index& index, const BegunSet& wanted,
                                    const SourceTree& source, const StopRequest& stop,
                                    Observer& observer) {
  auto begun = index.begun();
  if (!begun || begun->parts.empty()) return {};
  if (std::string why = why_not_continued(*begun, wanted); !why.empty()) return {std::nullopt, why};
  auto folder = find_folder(open.shelf, *begun);
  if (!folder && lies_elsewhere(open.shelf, begun->parts[0])) folder = begun->folder;
  if (!folder) return {std::nullopt, "its parts are not on this disk"};
  Continuation found{*folder, {}, begun->begun};
  for (ClosedPart& part : begun->parts) {
    observer.progress({"checking " + part.info.name + " of the run that did not finish",
                       found.parts.size(), begun->parts.size(), 0, 0, ""});
    bool elsewhere = lies_elsewhere(open.shelf, part) && !part.blocks.empty();
    if (!elsewhere && !is_whole(*open.place, *folder + "/" + part.info.name, part, stop)) break;
    found.parts.push_back(std::move(part));
  }
  if (found.parts.empty()) return {std::nullopt, "its first part is damaged"};
  drop_useless(found.parts, source);
  if (found.parts.empty()) return {std::nullopt, "the only file in its parts has changed"};
  if (auto replaced = replaced_folder(index, found.parts.back().complete_until(), source)) {
    return {std::nullopt, "/" + printable(*replaced) + " is no folder any more"};
  }
  return {found, ""};
}

std::optional<SetId> number_begun_elsewhere(const OpenShelf& open, Index& index) {
  if (open.shelf.label().earlier.empty()) return std::nullopt;
  auto begun = index.begun();
  if (!begun || begun->parts.empty() || !lies_elsewhere(open.shelf, begun->parts[0])) {
    return std::nullopt;
  }
  auto folder = parse_set_folder(base_name(begun->folder));
  if (!folder) return std::nullopt;
  return folder->id;
}

bool may_be_continued(const OpenShelf& open, Index& index) {
  auto begun = index.begun();
  return begun && find_folder(open.shelf, *begun).has_value();
}

std::optional<Continuation> likely_continuation(const OpenShelf& open, Index& index,
                                                const BegunSet& wanted) {
  auto begun = index.begun();
  if (!begun || begun->parts.empty() || !why_not_continued(*begun, wanted).empty())
    return std::nullopt;
  auto folder = find_folder(open.shelf, *begun);
  if (!folder) return std::nullopt;
  return Continuation{*folder, begun->parts, begun->begun};
}

bool is_as_it_was(const LargeFile& file, const struct stat& st) {
  return static_cast<std::uint64_t>(st.st_size) == file.size && st.st_ino == file.inode &&
         FileTime(st.st_mtim) == file.mtime && FileTime(st.st_ctim) == file.ctime;
}

void remove_all_but(Place& place, const std::string& folder, const std::vector<ClosedPart>& parts) {
  for (const PlaceEntry& entry : place.list(folder)) {
    bool kept = std::any_of(parts.begin(), parts.end(),
                            [&](const ClosedPart& part) { return part.info.name == entry.name; });
    if (kept || entry.is_folder) continue;
    // A seal names its files: what else is there is nothing.
    bool gone = removed_if_allowed(place, [&] { place.remove_file(folder + "/" + entry.name); });
    if (!gone) return;
  }
}

bool is_of_another_disk(const OpenShelf& open, Index& index, const std::string& folder) {
  if (!open.place->exists(folder + "/" + kGoesOnFile)) return false;
  auto begun = index.begun();
  return !begun || begun->folder != folder;
}

std::vector<std::string> removable_leftovers(const OpenShelf& open, Index& index) {
  std::vector<std::string> folders = open.shelf.leftovers();
  std::erase_if(folders,
                [&](const std::string& folder) { return is_of_another_disk(open, index, folder); });
  return folders;
}

std::uint64_t unfinished_bytes(const Shelf& shelf, const std::vector<std::string>& leftovers) {
  std::uint64_t sum = 0;
  for (const std::string& folder : leftovers) {
    if (!folder.ends_with(kUnfinishedSuffix)) continue;
    for (const PlaceEntry& file : shelf.place().list(folder)) sum += file.size;
  }
  return sum;
}

}  // namespace kestrum
