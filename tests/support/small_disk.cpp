#include "support/small_disk.h"

#include <unistd.h>

#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum::test {

SmallDisk::SmallDisk(const TempFolder& scratch, const std::string& folder, unsigned megabytes)
    : folder_(folder) {
  if (::geteuid() != 0) return;
  std::string image = scratch / (base_name(folder) + ".img"),
              size = std::to_string(megabytes) + "M";
  mounted_ = run_program({"truncate", "-s", size, image}).exit == 0 &&
             run_program({"mkfs.ext4", "-q", "-m", "0", image}).exit == 0 &&
             run_program({"mount", "-o", "loop", image, folder}).exit == 0;
  if (mounted_) return;
  mounted_ = run_program({"mount", "-t", "tmpfs", "-o", "size=" + size, "tmpfs", folder}).exit == 0;
}

SmallDisk::~SmallDisk() {
  if (mounted_) run_program({"umount", folder_});
}

}  // namespace kestrum::test
