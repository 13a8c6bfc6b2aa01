// A disk that a program serves (FUSE), as many USB sticks are.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/small_disk.h"

namespace kestrum::test {
namespace {

// There a file that is removed while somebody has it open leaves another behind, and its folder is
// not empty.
TEST(ServedDisk, SetsAreRemovedWhole) {
  Desk desk;
  std::filesystem::create_directories(desk.disk());
  SmallDisk disk(desk.folder, desk.disk(), 64, DiskKind::kExfat);
  if (!disk.mounted()) GTEST_SKIP() << disk.why_not();
  desk.on_day(0);
  desk.define({"--protection", "none"});
  put_file(desk.source() + "/a", "words");
  for (int day : {0, 20, 40}) {
    desk.on_day(day);
    Ran ran = desk.kestrum({"run", "desk", "--kind", "full"});
    EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  }
  for (const std::string& name : list_folder(desk.shelf() + "/sets")) {
    EXPECT_EQ(name.find("c0001"), std::string::npos) << name;
    EXPECT_EQ(name.find("removing"), std::string::npos) << name;
  }
}

}  // namespace
}  // namespace kestrum::test
