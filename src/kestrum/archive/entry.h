// One entry of a tree: what the walk finds, tar carries, the ledger lists and a restore makes.
#pragma once

#include <cstdint>
#include <map>
#include <string>

#include "kestrum/base/clock.h"
#include "kestrum/base/file_time.h"

namespace kestrum {

enum class EntryType : std::uint8_t {
  kFile,
  kFolder,
  kLink,      // symbolic
  kHardlink,  // in a tar only: another name of the file `target`
  kFifo,
  kDevice,
  kGone,     // ledger only: the folder was read and it was not there
  kLeftOut,  // ledger only: the job's rules no longer take it
};

struct Entry {
  std::string path;  // bytes, relative to "/", without a leading slash; "" is "/" itself
  EntryType type = EntryType::kFile;
  std::uint64_t size = 0;  // bytes of content; expanded, for a file with holes; 0 for non-files
  FileTime mtime, ctime;
  std::uint32_t mode = 0;  // permission bits, 07777
  std::uint32_t uid = 0, gid = 0;
  std::string user, group;  // names, empty if the system knows none
  std::string target;       // of a link, as it reads; of a hard link, the other path (as `path`)
  std::uint32_t device_major = 0, device_minor = 0;
  bool block_device = false;
  std::map<std::string, std::string> xattrs;  // name to raw value, POSIX ACLs among them
  bool holes = false;                         // the file has holes
  // Names with the same number were one file; 0 for a file of one name. Says nothing of content.
  std::uint64_t link_group = 0;
};

// As a ledger writes it: "file", "folder", "link", "fifo", "device", "gone", "left_out". Of what is
// in a tar only: "hardlink".
const char* type_name(EntryType type);
// False if a ledger has no such type.
bool parse_type(const std::string& name, EntryType& type);

}  // namespace kestrum
