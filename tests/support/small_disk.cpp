#include "support/small_disk.h"

#include <unistd.h>

#include <fstream>

#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum::test {

std::string name_of(DiskKind kind) {
  switch (kind) {
    case DiskKind::kAny:
      return "any";
    case DiskKind::kExt4:
      return "ext4";
    case DiskKind::kTmpfs:
      return "tmpfs";
    case DiskKind::kFat:
      return "FAT32";
    case DiskKind::kExfat:
      return "exFAT";
    case DiskKind::kBtrfs:
      return "btrfs";
    case DiskKind::kDying:
      return "dying";
  }
  return "";
}

SmallDisk::SmallDisk(const TempFolder& scratch, const std::string& folder, unsigned megabytes,
                     DiskKind kind)
    : folder_(folder),
      image_(scratch / (base_name(folder) + ".img")),
      megabytes_(megabytes),
      kind_(kind) {
  if (::geteuid() != 0) {
    why_not_ = "needs root";
    return;
  }
  if (kind == DiskKind::kAny) {
    kind_ = DiskKind::kExt4;
    if (mount()) return;
    kind_ = DiskKind::kTmpfs;
  }
  if (kind == DiskKind::kDying) {
    hold_ = scratch / (base_name(folder) + ".kept_by");
    image_ = hold_ + "/image";
    Ran made = run_script("mkdir " + hold_ + "; mount -t tmpfs -o mode=0755,size=" +
                          std::to_string(megabytes / 2) + "M tmpfs " + hold_);
    if (made.exit != 0) {
      why_not_ = made.err;
      return;
    }
  }
  mount();
}

SmallDisk::~SmallDisk() {
  unmount();
  if (!hold_.empty()) run_program({"umount", hold_});
}

bool SmallDisk::mount() {
  std::string make, attach = "mount \"$device\" " + folder_;
  switch (kind_) {
    case DiskKind::kTmpfs:
      break;
    case DiskKind::kFat:
      make = "mkfs.fat -F 32";
      break;
    case DiskKind::kBtrfs:
      make = "mkfs.btrfs -q";
      break;
    case DiskKind::kExfat:
      make = "mkfs.exfat";
      attach = "mount.exfat-fuse \"$device\" " + folder_;
      break;
    default:
      make = "mkfs.ext4 -q -m 0";
      attach = "mount -o errors=remount-ro \"$device\" " + folder_;
  }
  std::string size = std::to_string(megabytes_) + "M";
  Ran ran;
  if (kind_ == DiskKind::kTmpfs) {
    ran = run_program({"mount", "-t", "tmpfs", "-o", "mode=0755,size=" + size, "tmpfs", folder_});
  } else {
    std::string script;
    if (!path_exists(image_)) {
      script = "truncate -s " + size + " " + image_ + "; " + make + " " + image_ + " >&2;";
    }
    script += "device=$(losetup --find --show " + image_ + "); echo $device; if ! " + attach +
              " >&2; then losetup -d $device; exit 1; fi";
    ran = run_script(script);
    device_ = ran.out.substr(0, ran.out.find('\n'));
  }
  mounted_ = ran.exit == 0;
  why_not_ = mounted_ ? "" : "cannot mount " + name_of(kind_) + " here: " + ran.err;
  return mounted_;
}

void SmallDisk::unmount() {
  if (!mounted_) return;
  run_program({"umount", folder_});
  if (kind_ != DiskKind::kTmpfs) run_program({"losetup", "-d", device_});
  mounted_ = false;
}

void SmallDisk::pull() {
  run_script("kill -KILL $(pgrep -f -x 'mount.exfat-fuse " + device_ + " " + folder_ + "')");
}

void SmallDisk::turn_read_only() {
  std::ofstream("/sys/fs/ext4/" + base_name(device_) + "/trigger_fs_error") << "x\n";
}

void SmallDisk::heal() {
  run_program({"mount", "-o", "remount,size=" + std::to_string(megabytes_ * 2) + "M", hold_});
}

bool SmallDisk::plug_in_again() {
  unmount();
  if (kind_ == DiskKind::kExt4 || kind_ == DiskKind::kDying) {
    run_program({"e2fsck", "-p", "-f", image_});
  }
  return mount();
}

}  // namespace kestrum::test
