// Where the content of a file lies piece by piece: "ranges" of docs/format.md.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/chain/set_id.h"

namespace kestrum {

struct ContentRange {
  std::uint64_t length = 0;  // bytes of the file
  bool hole = false;         // nothing lies anywhere
  // In whose tar the rest lies; nothing: that of the set whose line it is.
  std::optional<SetId> set;
  std::uint64_t entry = 0;   // of the tar entry's first header
  std::uint64_t offset = 0;  // in the entry's content, as it is stored
  bool operator==(const ContentRange&) const = default;
};

// The folder of a tar, relative to "/", whose entries hold stretches. Nothing of the user's has its
// name.
inline std::string stretches_folder(const std::string& shelf) {
  return ".kestrum-" + shelf;
}

// Of one file; a reader takes no more.
inline constexpr std::size_t kMostRanges = std::size_t{1} << 17;

// Says of which set those are that are of the set of their line.
inline void name_set(std::vector<ContentRange>& ranges, SetId set) {
  for (ContentRange& range : ranges) {
    if (!range.hole && !range.set) range.set = set;
  }
}

// Appends, as a part of the last range where it goes on there.
inline void append_range(std::vector<ContentRange>& ranges, const ContentRange& next) {
  if (!ranges.empty()) {
    ContentRange& last = ranges.back();
    bool goes_on = last.hole == next.hole && last.set == next.set && last.entry == next.entry &&
                   (last.hole || last.offset + last.length == next.offset);
    if (goes_on) {
      last.length += next.length;
      return;
    }
  }
  ranges.push_back(next);
}

}  // namespace kestrum
