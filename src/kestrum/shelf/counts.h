// What a run counts, and its fields by name, as seal and ledger have them.
#pragma once

#include <array>
#include <cstdint>
#include <utility>

namespace kestrum {

// Files are what is not a folder. seen = copied + moved + same + failed.
struct FileCounts {
  std::uint64_t seen = 0, copied = 0, moved = 0, same = 0, gone = 0, absent = 0, left_out = 0,
                failed = 0;
};

struct ByteCounts {
  std::uint64_t seen = 0;    // sizes of the files seen
  std::uint64_t copied = 0;  // content that went into the set
  std::uint64_t stored = 0;  // parts, ledger and seal on the shelf
};

// One list of the counts for writing and for reading.
template <typename Counts>
auto file_fields(Counts& c) {
  return std::array<std::pair<const char*, decltype(&c.seen)>, 8>{{{"seen", &c.seen},
                                                                   {"copied", &c.copied},
                                                                   {"moved", &c.moved},
                                                                   {"same", &c.same},
                                                                   {"gone", &c.gone},
                                                                   {"absent", &c.absent},
                                                                   {"left_out", &c.left_out},
                                                                   {"failed", &c.failed}}};
}

template <typename Counts>
auto byte_fields(Counts& c) {
  return std::array<std::pair<const char*, decltype(&c.seen)>, 3>{
      {{"seen", &c.seen}, {"copied", &c.copied}, {"stored", &c.stored}}};
}

}  // namespace kestrum
