// Cutting content into stretches whose ends it decides itself, so that an edit moves only the ends
// near it: docs/format.md, "Stretches of large files".
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "kestrum/base/bytes.h"
#include "kestrum/crypto/digest.h"

namespace kestrum {

// Bytes. From the shortest on a stretch ends where the content asks for it strongly, from the
// likely length on where it asks for it at all.
inline constexpr std::size_t kShortestStretch = 32 << 10, kLikelyStretch = 56 << 10,
                             kLongestStretch = 128 << 10;
// Of content in one tar entry of stretches.
inline constexpr std::size_t kStretchEntry = 8 << 20;
// In one list of the ledger and of the index.
inline constexpr std::size_t kStretchesAList = 1024;

using StretchDigest = std::array<std::uint8_t, 16>;  // the first half of a BLAKE3

struct Stretch {
  std::uint32_t length = 0;  // bytes, at most kLongestStretch
  StretchDigest digest{};
  bool operator==(const Stretch&) const = default;
};

// Some of the stretches of a tar entry's content, back to back.
struct StretchList {
  std::uint64_t tar_offset = 0;  // of the entry's first header
  std::uint64_t from = 0;  // bytes of the entry's content, as stored, before the first of them
  std::uint64_t at = 0;    // the same in the file: more, where there are holes before it
  std::vector<Stretch> stretches;
  std::string path;  // of the entry; where it was asked for

  std::uint64_t end() const;  // `from` of what follows
  bool operator==(const StretchList&) const = default;
};

StretchDigest stretch_digest(ByteView content);

// Looks for the end of one stretch, piece by piece.
class StretchScan {
 public:
  // How many bytes of `content`, which goes on where the last piece ended, belong to the stretch;
  // `ended`: they end it.
  std::size_t take(ByteView content, bool& ended);

 private:
  std::size_t length_ = 0;
  std::uint64_t hash_ = 0;
};

// The length of the stretch that `content` begins with. It holds kLongestStretch bytes at least, or
// all that is left of its run of data.
std::size_t first_stretch(ByteView content);

// Lists the stretches of content that passes by.
class StretchLister {
 public:
  using Visit = std::function<void(const Stretch&)>;
  explicit StretchLister(Visit visit) : visit_(std::move(visit)) {}
  void add(ByteView content);
  void end_run();  // what follows begins a stretch

 private:
  void tell();
  Visit visit_;
  StretchScan scan_;
  Digester digester_;
  std::uint32_t length_ = 0;
};

}  // namespace kestrum
