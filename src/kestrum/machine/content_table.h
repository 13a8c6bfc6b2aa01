// Where the set being written holds content already, as far as a fixed amount of memory tells.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <vector>

#include "kestrum/base/bytes.h"
#include "kestrum/crypto/digest.h"

namespace kestrum {

// Maps content to rows of the journal. What it answers is a guess that whoever asks has to confirm;
// where it is full, what was put long ago makes room, and is then not found any more.
class ContentTable {
 public:
  // `besides` tells apart what has the same content and must not be taken for one.
  void put(const Digest& digest, std::uint64_t besides, std::int64_t row);
  std::optional<std::int64_t> find(const Digest& digest, std::uint64_t besides) const;

  // Of files that are too large to be digested without need: whether one of this size, or of this
  // size and time, was noted. Now and then it says so where there was none.
  void note_size(std::uint64_t size, std::uint64_t time);
  bool has_size(std::uint64_t size, std::optional<std::uint64_t> time) const;

  void clear();

 private:
  struct Slot {
    std::uint32_t tag = 0, row = 0;  // row 0: empty
  };
  static constexpr std::size_t kWays = 4, kBuckets = 1 << 18;  // 8 MiB
  static constexpr std::size_t kSizeBits = 1 << 22;
  std::vector<Slot> slots_;
  std::vector<std::uint64_t> sizes_;
};

}  // namespace kestrum
