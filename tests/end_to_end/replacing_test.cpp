// What a restore puts in the place of something else: at every call to the system it may be killed,
// or the disk be full, and each file is the old one or the new one, never neither.
#include <gtest/gtest.h>

#include <csignal>
#include <filesystem>
#include <sstream>

#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Replacing : public testing::Test {
 protected:
  static constexpr int kFiles = 3;

  void SetUp() override {
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
    GTEST_SKIP() << "a program with these sanitizers does not end well while it is traced";
#endif
    if (run_program({"strace", "-o", "/dev/null", "true"}).exit != 0) {
      GTEST_SKIP() << "nothing can be traced here";
    }
    desk.define({"--protection", "none"});
    put("new");
    ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  }
  std::string file(int i) {
    return desk.source() + "/letter-" + std::to_string(i);
  }
  static std::string text(const std::string& state, int i) {
    return state + " text of letter " + std::to_string(i);
  }
  void put(const std::string& state) {
    for (int i = 0; i < kFiles; ++i) put_file(file(i), text(state, i));
  }
  std::string trace() {
    return desk.folder / "trace";
  }
  // A restore under strace with these words; its exit, 137 if it was killed.
  int restore(const std::vector<std::string>& strace) {
    std::vector<std::string> argv = {"strace", "-f", "-qq", "-o", trace()};
    argv.insert(argv.end(), strace.begin(), strace.end());
    argv.insert(argv.end(), {KESTRUM_PROGRAM, "restore", "desk", "--in-place", "--everything",
                             "--clash", "replace", "--yes"});
    return run_program(argv, desk.environment).exit;
  }
  void expect_old_or_new() {
    for (int i = 0; i < kFiles; ++i) {
      ASSERT_TRUE(path_exists(file(i)));
      std::string found = read_file(file(i));
      EXPECT_TRUE(found == text("old", i) || found == text("new", i)) << found;
    }
  }
  void expect_all_new() {
    for (int i = 0; i < kFiles; ++i) EXPECT_EQ(read_file(file(i)), text("new", i));
    for (const std::string& name : list_folder(desk.source())) {
      EXPECT_TRUE(name.starts_with("letter-")) << name << " is left over";
    }
  }
  Desk desk;
};

// A power cut after the rename finds the new content on the disk.
TEST_F(Replacing, IsSyncedBeforeItsRenameAndAllOfItAtTheEnd) {
  put("old");
  ASSERT_EQ(restore({"-e", "trace=fsync,renameat,renameat2,syncfs", "-y"}), 0);
  std::istringstream lines(read_file(trace()));
  std::string line, synced;
  int renamed = 0;
  bool synced_last = false;
  while (std::getline(lines, line)) {
    if (line.find(desk.source()) == std::string::npos) continue;
    synced_last = line.find(" syncfs(") != std::string::npos;
    if (line.find(" fsync(") != std::string::npos) synced = line;
    if (line.find(" renameat") == std::string::npos) continue;
    ++renamed;
    std::size_t from = line.find('"') + 1;
    std::string name = line.substr(from, line.find('"', from) - from);
    EXPECT_NE(synced.find("/" + name + ">"), std::string::npos) << synced << "\n" << line;
  }
  EXPECT_EQ(renamed, kFiles);
  EXPECT_TRUE(synced_last) << read_file(trace());
}

TEST_F(Replacing, LeavesTheOldOrTheNewWhereverItIsKilled) {
  int killed = 0;
  for (const char* call : {"fsync", "renameat", "renameat2", "pwrite64", "ftruncate", "fchmod",
                           "fchown", "utimensat", "unlinkat", "syncfs", "openat"}) {
    for (int when = 1;; ++when) {
      put("old");
      SCOPED_TRACE(std::string(call) + ", the " + std::to_string(when) + "th");
      std::string inject =
          std::string("inject=") + call + ":signal=SIGKILL:when=" + std::to_string(when);
      std::vector<std::string> words = {"-e", std::string("trace=") + call, "-e", inject};
      // Of the many files that are opened, those of the target.
      if (std::string(call) == "openat") words.insert(words.end(), {"-P", desk.source()});
      int exit = restore(words);
      bool was_killed = exit == 128 + SIGKILL;
      ASSERT_TRUE(was_killed || exit == 0) << exit;
      ASSERT_LT(when, 100) << "it makes no end";
      expect_old_or_new();
      if (!was_killed || HasFailure()) break;
      ++killed;
      ASSERT_EQ(desk.kestrum({"restore", "desk", "--in-place", "--everything", "--clash", "replace",
                              "--yes"})
                    .exit,
                0);
      expect_all_new();
    }
  }
  EXPECT_GT(killed, 20);
}

TEST_F(Replacing, LeavesTheOldOrTheNewOnAFullDisk) {
  int failed = 0;
  for (const char* call : {"pwrite64", "fsync", "ftruncate", "renameat", "syncfs"}) {
    for (int when = 1;; ++when) {
      put("old");
      SCOPED_TRACE(std::string(call) + ", from the " + std::to_string(when) + "th on");
      std::string inject =
          std::string("inject=") + call + ":error=ENOSPC:when=" + std::to_string(when) + "+";
      int exit = restore({"-e", std::string("trace=") + call, "-e", inject});
      expect_old_or_new();
      if (exit == 0) {
        expect_all_new();
        break;
      }
      ++failed;
      ASSERT_LT(when, 100) << "it makes no end";
      ASSERT_EQ(restore({"-e", "trace=none"}), 0);
      expect_all_new();
      if (HasFailure()) return;
    }
  }
  EXPECT_GT(failed, 10);
}

}  // namespace
}  // namespace kestrum::test
