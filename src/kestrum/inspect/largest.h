// The largest files and folders of a restore point, and what grew most since the one before.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/machine/index.h"

namespace kestrum {

struct NamedSize {
  std::string path;         // absolute
  std::uint64_t bytes = 0;  // of a folder: of all files below it, each name counted
  std::int64_t grown = 0;   // bytes; 0 where nothing is known of before
};

// The largest first, at most twelve of each.
struct LargestPaths {
  std::vector<NamedSize> files, folders;  // folders of the job and those up to two levels below
  std::vector<NamedSize> grown;           // files that are new or grew
};

// `before` is the restore point that is compared with; nothing: none. Reads the whole state of
// both, in memory that does not grow with it.
LargestPaths largest_paths(Index& index, const IndexedSet& newest, std::optional<SetId> before);

}  // namespace kestrum
