// Trees that are large enough for threads that read ahead.
#include <gtest/gtest.h>
#include <unistd.h>

#include <atomic>
#include <filesystem>
#include <random>
#include <thread>

#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class LargeTree : public testing::Test {
 protected:
  static constexpr int kFolders = 80, kFiles = 70;
  static constexpr std::size_t kSize = 3000;
  std::string name(int number) const {
    return std::to_string(number % kFolders) + "/f" + std::to_string(number);
  }
  void SetUp() override {
    desk.define({"--protection", "none"});
    for (int folder = 0; folder < kFolders; ++folder) {
      fs::create_directories(desk.source() + "/" + std::to_string(folder));
    }
    for (int number = 0; number < kFolders * kFiles; ++number) put(number, 'a');
  }
  // At no moment is there no file of this name, or half of one.
  void put(int number, char letter) {
    std::string path = desk.source() + "/" + name(number);
    put_file(path + ".new", std::string(kSize, letter));
    fs::rename(path + ".new", path);
  }
  Desk desk;
};

TEST_F(LargeTree, FilesThatAreReplacedMeanwhileAreHeldAndWhole) {
  std::atomic<bool> over = false;
  std::thread busy([&] {
    std::mt19937 random(3);
    for (char letter = 'b'; !over; letter = letter == 'z' ? 'b' : static_cast<char>(letter + 1)) {
      put(static_cast<int>(random() % (kFolders * kFiles)), letter);
      ::usleep(5000);  // a filesystem that is flooded with renames syncs for minutes
    }
  });
  for (int run = 0; run < 2; ++run) {
    Ran ran = desk.kestrum({"run", "desk"});
    EXPECT_LE(ran.exit, 1) << ran.out << ran.err;
  }
  over = true;
  busy.join();
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string to = desk.folder / "back";
  EXPECT_LE(desk.kestrum({"restore", "desk", "--to", to, "--point", "c1-0"}).exit, 1);
  int whole = 0;
  for (int number = 0; number < kFolders * kFiles; ++number) {
    std::string content = read_file(to + "/" + name(number));
    whole += content == std::string(kSize, content.empty() ? 'a' : content[0]);
  }
  EXPECT_EQ(whole, kFolders * kFiles);
}

// What is known is read by another thread; what is told must not depend on it.
TEST_F(LargeTree, WhatChangedIsToldAsInASmallOne) {
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  for (int number = 0; number < 30; ++number) put(number * 100, 'b');
  for (int number = 1; number <= 20; ++number) {
    fs::remove(desk.source() + "/" + name(number * 100 + 50));
  }
  fs::rename(desk.source() + "/7", desk.source() + "/seven");
  Json foreseen = desk.json({"forecast", "desk"})["files"];
  Json files = desk.json({"run", "desk"})["runs"][0]["files"];
  EXPECT_EQ(files["copied"], 30) << files;
  EXPECT_EQ(files["gone"], 20) << files;
  EXPECT_GE(files["moved"], 69) << files;
  EXPECT_EQ(files["failed"], 0) << files;
  EXPECT_EQ(foreseen["gone"], files["gone"]) << foreseen;
}

}  // namespace
}  // namespace kestrum::test
