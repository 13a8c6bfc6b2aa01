// What a restore puts in the place of something else: at every call to the system it may be killed,
// or the disk be full, and each file is the old one or the new one, never neither.
#include <gtest/gtest.h>

#include <csignal>
#include <filesystem>
#include <optional>
#include <set>
#include <sstream>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/small_disk.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// Where it is restored to.
enum class Onto {
  kItsPlace,   // the folder it came from
  kFoldingFs,  // a disk that takes names for one that differ in case, served by FUSE
  kPlainFs,    // its place, as if the filesystem knew nothing of renameat2
};

class Replacing : public testing::TestWithParam<Onto> {
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
    if (GetParam() != Onto::kFoldingFs) return;
    target_ = desk.folder / "usb";
    fs::create_directories(target_);
    disk_.emplace(desk.folder, target_, 32, DiskKind::kExfat);
    if (!disk_->mounted()) GTEST_SKIP() << disk_->why_not();
  }
  bool onto_folding() const {
    return GetParam() == Onto::kFoldingFs;
  }
  // The folder that holds the files.
  std::string target() {
    return target_.empty() ? desk.source() : target_;
  }
  std::string file(int i) {
    return target() + "/letter-" + std::to_string(i);
  }
  std::string link() {
    return target() + "/link";
  }
  static std::string text(const std::string& state, int i) {
    return state + " text of letter " + std::to_string(i);
  }
  void put(const std::string& state) {
    for (int i = 0; i < kFiles; ++i) put_file(file(i), text(state, i));
    if (onto_folding() && !target_.empty()) return;  // it has no links
    fs::remove(link());
    fs::create_symlink(state, link());
  }
  std::vector<std::string> command() {
    if (onto_folding()) {
      // Its link cannot be made there.
      return {"restore", "desk", "letter-*", "--to", target(), "--clash", "replace", "--yes"};
    }
    return {"restore", "desk", "--in-place", "--everything", "--clash", "replace", "--yes"};
  }
  std::string trace() {
    return desk.folder / "trace";
  }
  // A restore under strace with these words; its exit, 137 if it was killed.
  int restore(const std::vector<std::string>& strace) {
    std::vector<std::string> argv = {"strace", "-f", "-qq", "-o", trace()};
    argv.insert(argv.end(), strace.begin(), strace.end());
    if (GetParam() == Onto::kPlainFs) {
      argv.insert(argv.end(), {"-e", "inject=renameat2:error=EINVAL"});
    }
    argv.push_back(KESTRUM_PROGRAM);
    std::vector<std::string> given = command();
    argv.insert(argv.end(), given.begin(), given.end());
    return run_program(argv, desk.environment).exit;
  }
  void expect_old_or_new() {
    for (int i = 0; i < kFiles; ++i) {
      ASSERT_TRUE(path_exists(file(i)));
      std::string found = read_file(file(i));
      EXPECT_TRUE(found == text("old", i) || found == text("new", i)) << found;
    }
    if (onto_folding()) return;
    ASSERT_TRUE(fs::is_symlink(link()));
    std::string reads = fs::read_symlink(link());
    EXPECT_TRUE(reads == "old" || reads == "new") << reads;
  }
  void expect_all_new() {
    for (int i = 0; i < kFiles; ++i) EXPECT_EQ(read_file(file(i)), text("new", i));
    for (const std::string& name : list_folder(target())) {
      EXPECT_TRUE(name.starts_with("letter-") || name == "link") << name << " is left over";
    }
    if (onto_folding()) return;
    EXPECT_EQ(fs::read_symlink(link()), "new");
  }
  Desk desk;
  std::string target_;
  std::optional<SmallDisk> disk_;
};

// A power cut after the rename finds the new content on the disk.
TEST_P(Replacing, IsSyncedBeforeItsRenameAndAllOfItAtTheEnd) {
  if (GetParam() != Onto::kItsPlace) GTEST_SKIP() << "told once";
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
    if (line.find(" renameat") == std::string::npos || line.find("link") != std::string::npos)
      continue;
    ++renamed;
    std::size_t from = line.find('"') + 1;
    std::string name = line.substr(from, line.find('"', from) - from);
    // It may have had no name yet; each is synced for itself.
    bool this_one = synced.find("/" + name + ">") != std::string::npos ||
                    synced.find(desk.source() + "/#") != std::string::npos;
    EXPECT_TRUE(this_one) << synced << "\n" << line;
    synced.clear();
  }
  EXPECT_EQ(renamed, kFiles);
  EXPECT_TRUE(synced_last) << read_file(trace());
}

TEST_P(Replacing, LeavesTheOldOrTheNewWhereverItIsKilled) {
  int killed = 0;
  for (const char* call : {"fsync", "linkat", "renameat", "renameat2", "pwrite64", "ftruncate",
                           "fchmod", "fchown", "utimensat", "unlinkat", "syncfs", "openat"}) {
    bool injected_already = GetParam() == Onto::kPlainFs && std::string(call) == "renameat2";
    for (int when = 1; !injected_already; ++when) {
      put("old");
      SCOPED_TRACE(std::string(call) + ", the " + std::to_string(when) + "th");
      std::string inject =
          std::string("inject=") + call + ":signal=SIGKILL:when=" + std::to_string(when);
      std::vector<std::string> words = {"-e", std::string("trace=") + call, "-e", inject};
      // Of the many files that are opened, those of the target.
      if (std::string(call) == "openat") words.insert(words.end(), {"-P", target()});
      int exit = restore(words);
      bool was_killed = exit == 128 + SIGKILL;
      ASSERT_TRUE(was_killed || exit == 0) << exit;
      ASSERT_LT(when, 100) << "it makes no end";
      expect_old_or_new();
      if (!was_killed || HasFailure()) break;
      ++killed;
      ASSERT_EQ(desk.kestrum(command()).exit, 0);
      expect_all_new();
    }
  }
  EXPECT_GT(killed, 15);
}

TEST_P(Replacing, LeavesTheOldOrTheNewOnAFullDisk) {
  int failed = 0;
  for (const char* call : {"pwrite64", "fsync", "ftruncate", "linkat", "renameat", "syncfs"}) {
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
  EXPECT_GT(failed, 5);
}

INSTANTIATE_TEST_SUITE_P(Onto, Replacing,
                         testing::Values(Onto::kItsPlace, Onto::kFoldingFs, Onto::kPlainFs),
                         [](const auto& where) {
                           return where.param == Onto::kItsPlace    ? "ItsPlace"
                                  : where.param == Onto::kFoldingFs ? "FoldingFilesystem"
                                                                    : "FilesystemWithoutRenameat2";
                         });

// Names that differ in case alone, or in how an accent is written, are one name there.
class FoldedNames : public testing::Test {
 protected:
  void SetUp() override {
    fs::create_directories(usb());
    disk_.emplace(desk.folder, usb(), 32, DiskKind::kExfat);
    if (!disk_->mounted()) GTEST_SKIP() << disk_->why_not();
    desk.define({"--protection", "none"});
    put_file(desk.source() + "/Report.txt", "upper");
    put_file(desk.source() + "/report.txt", "lower");
    put_file(desk.source() + "/Docs/a", "in Docs");
    put_file(desk.source() + "/docs/a", "in docs");
    put_file(desk.source() + "/caf\xc3\xa9", "small");
    put_file(desk.source() + "/CAF\xc3\x89", "capital");
    ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  }
  std::string usb() { return desk.folder / "usb"; }
  // Every content below a folder.
  std::multiset<std::string> contents(const std::string& folder) {
    std::multiset<std::string> found;
    for (const auto& file : fs::recursive_directory_iterator(folder)) {
      if (file.is_regular_file()) found.insert(read_file(file.path()));
    }
    return found;
  }
  const std::multiset<std::string> all_ = {"upper",   "lower", "in Docs",
                                           "in docs", "small", "capital"};
  Desk desk;
  std::optional<SmallDisk> disk_;
};

TEST_F(FoldedNames, NoFileTakesThePlaceOfAnotherOfTheSameRestore) {
  for (const char* clash : {"replace", "both"}) {
    std::string to = usb() + "/" + clash;
    for (int again = 0; again < 2; ++again) {
      Ran ran = desk.kestrum({"restore", "desk", "--to", to, "--clash", clash});
      EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
      EXPECT_EQ(contents(to), all_) << clash;
    }
  }
}

TEST_F(FoldedNames, WhatIsSkippedIsNamed) {
  Ran ran = desk.kestrum({"restore", "desk", "--to", usb() + "/skip"});
  EXPECT_EQ(ran.exit, 1);
  EXPECT_NE(ran.err.find("this filesystem takes its name for that of another file there"),
            std::string::npos)
      << ran.err;
}

TEST_F(FoldedNames, WhatTheUserHasThereUnderAnotherSpellingStays) {
  put_file(usb() + "/REPORT.TXT", "the user's own");
  put_file(usb() + "/DOCS/a", "the user's own too");
  Ran ran =
      desk.kestrum({"restore", "desk", "report.txt", "docs", "--to", usb(), "--clash", "replace"});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_EQ(contents(usb()), (std::multiset<std::string>{"the user's own", "the user's own too",
                                                         "lower", "in docs"}));
  EXPECT_EQ(read_file(usb() + "/REPORT.TXT"), "the user's own");
  EXPECT_EQ(read_file(usb() + "/DOCS/a"), "the user's own too");
}

}  // namespace
}  // namespace kestrum::test
