#include "kestrum/archive/stretches.h"

#include <algorithm>

namespace kestrum {
namespace {

constexpr std::size_t kHashed = 64;  // bytes that the rolling hash looks back on
constexpr std::uint64_t kStrong = ~std::uint64_t{0} << (64 - 18),
                        kWeak = ~std::uint64_t{0} << (64 - 13);

using Table = std::array<std::uint64_t, 256>;

const Table& table() {
  static const Table kTable = [] {
    Table made{};
    for (std::size_t byte = 0; byte < made.size(); ++byte) {
      std::string text = "kestrum stretch ";
      text += static_cast<char>(byte);
      made[byte] = get_le64(digest_of(as_bytes(text)).data());
    }
    return made;
  }();
  return kTable;
}

// Rolls over `content` until the hash shows no bit of `mask`; true if it does at the byte before
// `at`.
bool roll(ByteView content, std::size_t& at, std::size_t end, std::uint64_t& hash,
          std::uint64_t mask) {
  const Table& values = table();
  const std::uint8_t* bytes = content.data();
  std::uint64_t h = hash;
  std::size_t i = at;
  bool found = false;
  // Eight at a time, of which hardly ever one shows no bit of the mask: the smallest would.
  while (i + 8 <= end) {
    const std::uint8_t* next = bytes + i;
    std::uint64_t h1 = 2 * h + values[next[0]], h2 = 2 * h1 + values[next[1]],
                  h3 = 2 * h2 + values[next[2]], h4 = 2 * h3 + values[next[3]],
                  h5 = 2 * h4 + values[next[4]], h6 = 2 * h5 + values[next[5]],
                  h7 = 2 * h6 + values[next[6]], h8 = 2 * h7 + values[next[7]];
    std::uint64_t least = std::min(std::min(std::min(h1, h2), std::min(h3, h4)),
                                   std::min(std::min(h5, h6), std::min(h7, h8)));
    if (least <= ~mask) break;
    h = h8;
    i += 8;
  }
  while (i < end && !found) {
    h = 2 * h + values[bytes[i++]];
    found = (h & mask) == 0;
  }
  hash = h;
  at = i;
  return found;
}

StretchDigest half_of(const Digest& whole) {
  StretchDigest half;
  std::copy_n(whole.begin(), half.size(), half.begin());
  return half;
}

}  // namespace

std::uint64_t StretchList::end() const {
  std::uint64_t sum = from;
  for (const Stretch& stretch : stretches) sum += stretch.length;
  return sum;
}

StretchDigest stretch_digest(ByteView content) {
  return half_of(digest_of(content));
}

std::size_t StretchScan::take(ByteView content, bool& ended) {
  // Where in `content` the stretch has a length.
  auto place_of = [&](std::size_t length) {
    return std::min(content.size(), length - std::min(length, length_));
  };
  std::size_t at = place_of(kShortestStretch - kHashed);
  // Up to the first byte that may end it: a hash that matches before that says nothing.
  for (std::size_t end = place_of(kShortestStretch - 1); at < end; ++at) {
    hash_ = 2 * hash_ + table()[content[at]];
  }
  ended = roll(content, at, place_of(kLikelyStretch - 1), hash_, kStrong) ||
          roll(content, at, place_of(kLongestStretch), hash_, kWeak);
  length_ += at;
  ended = ended || length_ == kLongestStretch;
  return at;
}

std::size_t first_stretch(ByteView content) {
  bool ended = false;
  return StretchScan().take(content, ended);
}

void StretchLister::add(ByteView content) {
  while (!content.empty()) {
    bool ended = false;
    std::size_t n = scan_.take(content, ended);
    digester_.update(content.first(n));
    length_ += static_cast<std::uint32_t>(n);
    if (ended) tell();
    content = content.subspan(n);
  }
}

void StretchLister::end_run() {
  if (length_ > 0) tell();
}

void StretchLister::tell() {
  Stretch stretch{length_, half_of(digester_.finish())};
  scan_ = StretchScan();
  digester_ = Digester();
  length_ = 0;
  visit_(stretch);
}

}  // namespace kestrum
