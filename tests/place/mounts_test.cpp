#include "kestrum/place/mounts.h"

#include <gtest/gtest.h>

namespace kestrum {
namespace {

TEST(Mounts, AreTheDisksAndSharesThatABackupCouldGoTo) {
  auto disks = disks_in(
      "22 1 8:1 / / rw,relatime shared:1 - ext4 /dev/sda1 rw\n"
      "23 22 0:21 / /proc rw,nosuid - proc proc rw\n"
      "24 22 0:5 / /dev rw - devtmpfs udev rw\n"
      "25 22 8:2 / /boot/efi rw - vfat /dev/sda2 rw\n"
      "26 22 8:17 / /media/blue-disk rw,nosuid shared:30 - ext4 /dev/sdb1 rw\n"
      "27 22 8:33 / /media/the\\040red\\134disk rw master:2 - exfat /dev/sdc1 rw\n"
      "28 22 0:44 / /mnt/share rw - cifs //nas/backup rw\n"
      "29 22 0:45 / /mnt/export rw - nfs4 nas:/export rw\n"
      "30 22 8:49 / /media/cd ro,nosuid - iso9660 /dev/sr0 ro\n"
      "31 22 8:1 /srv/data /srv/data rw - ext4 /dev/sda1 rw\n"
      "32 22 0:50 / /run/user/1000 rw - tmpfs tmpfs rw\n"
      "33 22 7:1 / /snap/core/1 ro - squashfs /dev/loop1 ro\n"
      "nonsense\n\n34 22 8:1\n");
  std::vector<std::string> folders;
  for (const auto& disk : disks) folders.push_back(disk.folder);
  EXPECT_EQ(folders, (std::vector<std::string>{"/media/blue-disk", "/media/the red\\disk",
                                               "/mnt/share", "/mnt/export"}));
  EXPECT_EQ(disks[1].type, "exfat");
}

}  // namespace
}  // namespace kestrum
