// Restores of more files than one batch, by several threads.
#include <gtest/gtest.h>
#include <unistd.h>

#include <csignal>
#include <filesystem>
#include <map>
#include <set>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/small_disk.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class RestoreMany : public testing::Test {
 protected:
  void SetUp() override {
    desk.on_day(0);
    desk.define({"--protection", "none"});
  }
  void run(int day) {
    desk.on_day(day);
    ASSERT_LE(desk.kestrum({"run", "desk"}).exit, 1);
  }
  std::string file(const std::string& name) { return desk.source() + "/" + name; }
  std::string to(const std::string& name = "") { return desk.folder / ("back" + name); }
  Desk desk;
};

// Files are written by several threads; what is told is what is there.
TEST_F(RestoreMany, WhoStopsInTheMiddleIsToldHowManyFilesAreThere) {
  for (int number = 0; number < 400; ++number) {
    put_file(file("f" + std::to_string(number)), noise(150'000, static_cast<unsigned>(number)));
  }
  run(0);
  Background running({KESTRUM_PROGRAM, "restore", "desk", "--to", to()}, desk.environment);
  while (!fs::exists(to()) || list_folder(to()).size() < 30) ::usleep(200);
  running.signal(SIGINT);
  Ran ran = running.wait();
  std::vector<std::string> names = list_folder(to());
  for (const std::string& name : names) {
    EXPECT_EQ(name.find("restoring"), std::string::npos) << name;
    EXPECT_EQ(read_file(to("/" + name)).size(), 150'000U) << name;
  }
  if (ran.exit == 0) {  // it was quicker
    EXPECT_EQ(names.size(), 400U);
    return;
  }
  EXPECT_EQ(ran.exit, 130) << ran.out << ran.err;
  std::string told = std::to_string(names.size()) + " files were restored before that";
  EXPECT_NE((ran.out + ran.err).find(told), std::string::npos)
      << ran.out << ran.err << names.size();
}

TEST_F(RestoreMany, ManyFilesOfAllSizesAreAllRight) {
  std::map<std::string, std::string> contents;
  for (int number = 0; number < 700; ++number) {
    std::size_t size = number % 50 == 0 ? 3'000'000 : number % 7 == 0 ? 70'000 : number * 3;
    std::string name = std::to_string(number % 20) + "/f" + std::to_string(number);
    contents[name] = noise(size, static_cast<unsigned>(number % 333));  // some of them twice
    put_file(file(name), contents[name]);
  }
  run(0);
  for (int number = 0; number < 40; ++number) {
    std::string name = std::to_string(number % 20) + "/f" + std::to_string(number);
    contents[name] += "more";
    put_file(file(name), contents[name]);
  }
  run(1);
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", to()}).exit, 0);
  for (const auto& [name, content] : contents) {
    EXPECT_TRUE(read_file(to("/" + name)) == content) << name;
  }
  Json again = desk.json({"restore", "desk", "--to", to()});
  EXPECT_TRUE(again["restored"].empty() && again["failed"].empty());
  EXPECT_GE(again["skipped"].size(), 700U);
}

// Names that the filesystem takes for one are both under way at a time.
TEST_F(RestoreMany, TwoNamesThatFoldIntoOneBothGetTheirPlace) {
  for (int number = 0; number < 60; ++number) {
    for (const char* name : {"Note", "note"}) {
      put_file(file(name + std::to_string(number)), std::string(name) + std::to_string(number));
    }
  }
  run(0);
  std::string target = to();
  fs::create_directory(target);
  SmallDisk disk(desk.folder, target, 32, DiskKind::kExfat);
  if (!disk.mounted()) GTEST_SKIP() << disk.why_not();
  Json done = desk.json({"restore", "desk", "--to", target, "--clash", "both"});
  EXPECT_TRUE(done["failed"].empty());
  std::multiset<std::string> contents, expected;
  for (const std::string& name : list_folder(target)) {
    if (name.find("ote") != std::string::npos) contents.insert(read_file(target + "/" + name));
  }
  for (int number = 0; number < 60; ++number) {
    for (const char* name : {"Note", "note"}) expected.insert(name + std::to_string(number));
  }
  EXPECT_EQ(contents, expected);
}

}  // namespace
}  // namespace kestrum::test
