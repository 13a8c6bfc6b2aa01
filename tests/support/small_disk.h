// A real filesystem of a given size, mounted at a folder: ext4 on a loop device where the machine
// lets us, otherwise a tmpfs. Needs root.
#pragma once

#include <string>

#include "support/temp_folder.h"

namespace kestrum::test {

class SmallDisk {
 public:
  // Mounts at `folder`, which exists.
  SmallDisk(const TempFolder& scratch, const std::string& folder, unsigned megabytes);
  ~SmallDisk();
  SmallDisk(const SmallDisk&) = delete;

  bool mounted() const { return mounted_; }

 private:
  std::string folder_;
  bool mounted_ = false;
};

}  // namespace kestrum::test
