// Entries of a POSIX.1-2001 pax tar stream.
//
//   [ 'x' header 512 | pax records, padded to 512 ]     where ustar cannot carry it
//   ustar header 512
//   [ sparse map, padded to 512 ]                       GNU.sparse 1.0, files with holes
//   content, padded to 512
//
// Extended records carry: path, linkpath, size, uid, gid, uname, gname where they do not fit,
// mtime below a second, SCHILY.xattr.*, SCHILY.acl.access and SCHILY.acl.default (text form),
// GNU.sparse.* version 1.0.
#pragma once

#include <cstddef>
#include <cstdint>
#include <cstring>
#include <string_view>

namespace kestrum {

inline constexpr std::uint64_t kTarBlock = 512;

inline std::uint64_t tar_padding(std::uint64_t bytes) {
  return (kTarBlock - bytes % kTarBlock) % kTarBlock;
}

// Holes of one file in bytes. All of them are digested, so no run stores more, and a set that
// claims more is not believed.
inline constexpr std::uint64_t kMostHoles = std::uint64_t{64} << 40;

// Positions of a ustar header's fields (POSIX.1-2001, pax, "ustar Interchange Format").
namespace ustar {

struct Field {
  std::size_t offset, size;
};
inline constexpr Field kName{0, 100}, kMode{100, 8}, kUid{108, 8}, kGid{116, 8}, kSize{124, 12},
    kMtime{136, 12}, kChecksum{148, 8}, kType{156, 1}, kLinkName{157, 100}, kMagic{257, 8},
    kUserName{265, 32}, kGroupName{297, 32}, kMajor{329, 8}, kMinor{337, 8}, kPrefix{345, 155};

// The sum of a header's bytes, its own field taken for blanks.
inline std::uint64_t checksum_of(std::string_view block) {
  // Four bytes of each word are summed up at once, in 16 bits each.
  constexpr std::uint64_t kLanes = 0x00ff00ff00ff00ff;
  std::uint64_t lanes = 0;
  for (std::size_t i = 0; i < kTarBlock; i += sizeof(std::uint64_t)) {
    std::uint64_t word = 0;
    std::memcpy(&word, block.data() + i, sizeof(word));
    lanes += (word & kLanes) + ((word >> 8) & kLanes);
  }
  std::uint64_t sum = kChecksum.size * ' ';
  for (; lanes != 0; lanes >>= 16) sum += lanes & 0xffff;
  for (std::size_t i = 0; i < kChecksum.size; ++i) {
    sum -= static_cast<unsigned char>(block[kChecksum.offset + i]);
  }
  return sum;
}

}  // namespace ustar
}  // namespace kestrum
