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

#include <cstdint>
#include <string>
#include <vector>

#include "kestrum/archive/entry.h"
#include "kestrum/base/bytes.h"
#include "kestrum/base/data_runs.h"

namespace kestrum {

inline constexpr std::uint64_t kTarBlock = 512;

inline std::uint64_t tar_padding(std::uint64_t bytes) {
  return (kTarBlock - bytes % kTarBlock) % kTarBlock;
}

// The headers of an entry and, for a file with holes, its map: all that stands before the content.
// `runs` is used only if `entry.holes`; the content that follows is then the runs back to back.
// A hard link's target is a path like the entry's own.
std::string tar_entry_head(const Entry& entry, const std::vector<DataRun>& runs = {});

// The name of an entry in the stream: "." for "/", a trailing slash for a folder.
std::string tar_name(const Entry& entry);

// Holes of one file in bytes. All of them are digested, so no run stores more, and a set that
// claims more is not believed.
constexpr std::uint64_t kMostHoles = std::uint64_t{64} << 40;

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

// POSIX ACL extended attribute (version 2) as the text that tar carries: "user::rw-,group::r--".
// Empty if the value is malformed.
std::string acl_text(const std::string& raw_xattr);

}  // namespace kestrum
