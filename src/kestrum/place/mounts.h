// The disks and shares that are mounted now.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace kestrum {

struct MountedDisk {
  std::string folder;     // where it is mounted
  std::string type;       // of the filesystem: "ext4", "vfat", "cifs", ...
  bool is_share = false;  // of another machine
};

// Disks and shares of a text such as /proc/self/mountinfo (proc(5)), without the system's own.
std::vector<MountedDisk> disks_in(std::string_view mountinfo);
// Of this machine, now.
std::vector<MountedDisk> mounted_disks();
// Where a place may be on a disk that is mounted elsewhere now: it may have been any folder of it,
// so that every tail of its path is one, the disk's own folder the first.
std::vector<std::string> where_on(const MountedDisk& disk, const std::string& place);
// Whether a path lies on a share of another machine, as far as that can be told.
bool is_on_share(const std::string& path);
// Every path at which anything is mounted now. Throws Error if that cannot be told.
std::vector<std::string> mount_points();

}  // namespace kestrum
