// Reading the entries of a tar stream; tar_format.h says how it is made up.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "kestrum/archive/entry.h"
#include "kestrum/base/bytes.h"
#include "kestrum/base/data_runs.h"

namespace kestrum {

// What stands in a stream at the offset of an entry's first header.
struct TarEntry {
  Entry entry;                       // ctime is not in a tar; ACLs are not turned back
  std::uint64_t content_offset = 0;  // in the stream, behind the sparse map
  std::uint64_t stored_size = 0;     // bytes of content in the stream, without padding
  std::vector<DataRun> runs;         // of a file with holes
  std::uint64_t next_offset = 0;     // of the entry behind it
};

// Reads the entry at `offset`. Throws Error(kDamage) naming `what` for anything malformed; lengths
// are bounded before memory is taken. `end` is set, and the entry empty, at the closing zero block.
TarEntry read_tar_entry(ByteSource& stream, std::uint64_t offset, const std::string& what,
                        bool& end);

}  // namespace kestrum
