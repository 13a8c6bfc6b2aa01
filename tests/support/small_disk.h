// A real filesystem of a given size, mounted at a folder, that can go wrong as disks do. Needs
// root.
#pragma once

#include <string>

#include "support/temp_folder.h"

namespace kestrum::test {

enum class DiskKind {
  kAny,   // ext4 on a loop device where the machine lets us, otherwise a tmpfs
  kExt4,  // on a loop device
  kTmpfs,
  kFat,    // FAT32 on a loop device
  kBtrfs,  // on a loop device; needs 256 MB
  kExfat,  // on a loop device; served by a program, so that it can be pulled
  // ext4 on a loop device of which only the first part is really there: writing behind it fails
  // with EIO, as on a disk that dies.
  kDying,
};
std::string name_of(DiskKind kind);

class SmallDisk {
 public:
  // Mounts at `folder`, which exists.
  SmallDisk(const TempFolder& scratch, const std::string& folder, unsigned megabytes,
            DiskKind kind = DiskKind::kAny);
  ~SmallDisk();
  SmallDisk(const SmallDisk&) = delete;

  bool mounted() const { return mounted_; }
  // Why not, for a test that is skipped.
  std::string why_not() const { return why_not_; }

  bool can_be_pulled() const { return mounted_ && kind_ == DiskKind::kExfat; }
  // As if its cable was pulled out: everything that is open on it fails. Only kExfat.
  void pull();
  // What Linux does to a disk after an error: nothing can be written any more. Only on ext4.
  void turn_read_only();
  // Everything of a kDying disk is there again.
  void heal();
  // After pull(), turn_read_only() or heal(): unmounted, looked over and mounted anew.
  bool plug_in_again();

 private:
  bool mount();
  void unmount();

  std::string folder_, image_, device_, hold_;
  unsigned megabytes_;
  DiskKind kind_;
  bool mounted_ = false;
  std::string why_not_;
};

}  // namespace kestrum::test
