// A run that was interrupted is gone on with: what its parts hold is not copied again.
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>

#include "kestrum/base/clock.h"
#include "kestrum/base/file.h"
#include "kestrum/job/edit_key.h"
#include "support/cut_run.h"
#include "support/program.h"
#include "support/small_disk.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kFile = 500'000;  // bytes

class Interrupted : public testing::Test {
 protected:
  void define(const std::string& part_size = "1 MB") {
    part_size_ = part_size;
    desk.define({"--protection", "none", "--part-size", part_size});
  }
  void set_key(const std::string& key, const std::string& value) {
    std::string path = desk.folder / "home/jobs/desk.toml";
    write_file(path, edit_key(read_file(path), key, value));
  }
  void put_files(int count, unsigned seed = 1) {
    for (int i = 0; i < count; ++i) {
      char name[40];
      std::snprintf(name, sizeof name, "/folder-%d/file-%03d.bin", i / 10, i);
      put_file(desk.source() + name, noise(kFile, seed + static_cast<unsigned>(i)));
    }
  }
  std::string unfinished() const {
    for (const auto& name : list_folder(desk.shelf() + "/sets")) {
      if (name.ends_with(".unfinished")) return desk.shelf() + "/sets/" + name;
    }
    return "";
  }
  // Files of the unfinished set and their bytes; the run may rename its folder meanwhile.
  std::pair<std::size_t, std::uint64_t> files_there() const {
    std::size_t files = 0;
    std::uint64_t bytes = 0;
    std::string folder = unfinished();
    std::error_code error;
    if (folder.empty()) return {0, 0};
    for (const auto& file : fs::directory_iterator(folder, error)) {
      ++files;
      bytes += file.file_size(error);
    }
    return {files, bytes};
  }
  // Slow enough to be caught in the middle.
  void interrupt(std::size_t parts) {
    cut_run(desk, part_size_ == "1 MB" ? "5 MB/s" : "20 MB/s", parts, SIGKILL);
  }
  Json run(const std::vector<std::string>& more = {}, int exit = 0) {
    std::vector<std::string> words = {"run", "desk"};
    words.insert(words.end(), more.begin(), more.end());
    return desk.json(words, exit)["runs"][0];
  }
  void expect_a_large_file_to_be_gone_on_with() {
    put_file(desk.source() + "/image.raw", noise(80'000'000, 3));
    put_file(desk.source() + "/small.txt", "after it");
    // What was written just now may still change within the same tick, and would be read again.
    fs::last_write_time(desk.source() + "/image.raw",
                        fs::file_time_type::clock::now() - std::chrono::hours(1));
    ::sleep(3);
    define("9 MB");
    interrupt(3);
    Json report = run();
    EXPECT_EQ(report["continued"], true);
    EXPECT_LE(report["bytes"]["copied"], 80'000'000 - 2 * 8'000'000);
    expect_restores();
    Json set = desk.json({"sets", "desk"})["chains"][0]["sets"][0];
    EXPECT_EQ(set["bytes_copied"], 80'000'008);
  }
  void expect_restores(const std::string& set = "") {
    std::string to = desk.folder / "back";
    fs::remove_all(to);
    std::vector<std::string> words = {"restore", "desk", "--to", to, "--layout", "full"};
    if (!set.empty()) words.insert(words.end(), {"--point", set});
    EXPECT_EQ(desk.kestrum(words).exit, 0);
    Ran differ = run_program({"diff", "-r", "--no-dereference", desk.source(), to + desk.source()});
    EXPECT_EQ(differ.exit, 0) << differ.out;
    EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
    EXPECT_EQ(unfinished(), "");
  }
  Desk desk;

 private:
  std::string part_size_;
};

TEST_F(Interrupted, AKilledRunCopiesOnlyWhatItsPartsDoNotHold) {
  put_files(40);
  define();
  interrupt(7);
  ::sleep(1);  // seals tell times to the second
  Json forecast = desk.json({"forecast", "desk"});
  EXPECT_GE(forecast["kept"]["parts"], 7);
  EXPECT_LT(forecast["room"]["needed"], 32 * kFile) << forecast;
  Json report = run();
  EXPECT_EQ(report["continued"], true);
  EXPECT_EQ(report["set"], "c1-0");
  EXPECT_EQ(report["files"]["copied"], 40);
  // Seven parts of 1 MB hold 12 files of half a megabyte, and most of two more.
  EXPECT_LE(report["bytes"]["copied"], 28 * kFile);
  EXPECT_LE(report["bytes"]["stored"], 28 * kFile + 100'000);
  Json set = desk.json({"sets", "desk"})["chains"][0]["sets"][0];
  EXPECT_EQ(set["bytes_copied"], 40 * kFile);
  Json seal = parse_json(read_file(desk.set_folder("c1-0") + "/seal.json"), "seal");
  EXPECT_LT(seal["begun"], seal["started"]);
  expect_restores();
  // Plain tar reads it from end to end: what was cut is filled up.
  std::string plain = desk.folder / "plain";
  fs::create_directory(plain);
  Ran tar =
      run_script("cat " + desk.set_folder("c1-0") + "/part-* | zstd -dc | tar -x -C " + plain);
  EXPECT_EQ(tar.exit, 0) << tar.err;
  EXPECT_EQ(run_program({"diff", "-r", desk.source(), plain + desk.source()}).exit, 0);
  // And what follows is based on it as on any other.
  report = run();
  EXPECT_EQ(report["continued"], false);
  EXPECT_EQ(report["files"]["same"], 40);
}

TEST_F(Interrupted, AStopIsOrderlyQuickAndKeepsEverythingWritten) {
  put_files(120);
  define("100 MB");
  for (int signal : {SIGINT, SIGTERM}) {
    // All of it fits one part: what is kept is the part that was open.
    std::size_t kept = signal == SIGINT ? 0 : 1;
    auto under_way = [&] {
      auto [files, bytes] = files_there();
      return files > kept && bytes > 4'000'000U;
    };
    Nanos asked = 0;
    Ran ran = run_until(desk, "4 MB/s", under_way, [&](const Background& program) {
      asked = steady_now();
      program.signal(signal);
    });
    // A second, and some for a machine that does other things too; what is left would take more.
    EXPECT_LT(steady_now() - asked, 9 * kSecond);
    EXPECT_EQ(ran.exit, 130);
    EXPECT_NE(ran.out.find("stopped"), std::string::npos) << ran.out;
    EXPECT_NE(ran.out.find("the next run goes on"), std::string::npos) << ran.out;
  }
  Json history = desk.json({"history", "desk"})["runs"];
  EXPECT_EQ(history.back()["outcome"], "stopped");
  EXPECT_EQ(history.back()["continued"], true);
  Json report = run();
  EXPECT_EQ(report["continued"], true);
  EXPECT_LE(report["bytes"]["copied"], 120 * kFile - 4'000'000);
  expect_restores();
}

TEST_F(Interrupted, WhatChangedVanishedOrAppearedInBetweenIsSeen) {
  put_files(40);
  put_file(desk.source() + "/folder-0/linked.bin", noise(kFile, 77));
  fs::create_hard_link(desk.source() + "/folder-0/linked.bin", desk.source() + "/folder-3/zz.bin");
  fs::create_symlink("file-001.bin", desk.source() + "/folder-0/link");
  define();
  interrupt(9);
  put_file(desk.source() + "/folder-0/file-000.bin", noise(kFile, 500));
  put_file(desk.source() + "/folder-0/file-001.bin", "much shorter");
  fs::remove(desk.source() + "/folder-0/file-002.bin");
  fs::rename(desk.source() + "/folder-0/file-003.bin", desk.source() + "/folder-0/moved.bin");
  put_file(desk.source() + "/a-new-folder/first.bin", noise(kFile, 501));
  fs::permissions(desk.source() + "/folder-0/file-004.bin", fs::perms::owner_read);
  fs::remove(desk.source() + "/folder-0/link");
  fs::create_symlink("file-004.bin", desk.source() + "/folder-0/link");
  interrupt(11);
  put_file(desk.source() + "/folder-0/file-005.bin", noise(kFile, 502));
  fs::remove_all(desk.source() + "/a-new-folder");
  Json report = run();
  EXPECT_EQ(report["continued"], true);
  EXPECT_LT(report["bytes"]["copied"], 35 * kFile);
  expect_restores();
  struct stat mode {};
  ::stat((desk.folder / "back" + desk.source() + "/folder-0/file-004.bin").c_str(), &mode);
  EXPECT_EQ(mode.st_mode & 0777, 0400u);
}

TEST_F(Interrupted, ADependentSetIsGoneOnWithToo) {
  put_files(4, 900);
  define();
  run();
  put_files(40);
  interrupt(7);
  Json report = run();
  EXPECT_EQ(report["continued"], true);
  EXPECT_EQ(report["kind"], "incremental");
  EXPECT_LE(report["bytes"]["copied"], 29 * kFile);
  expect_restores();
}

TEST_F(Interrupted, ALargeFileIsGoneOnWithInItsMiddle) {
  expect_a_large_file_to_be_gone_on_with();
}

TEST_F(Interrupted, ALargeFileOnADiskOfItsOwnIsGoneOnWithInItsMiddle) {
  SmallDisk disk(desk.folder, desk.source(), 128, DiskKind::kTmpfs);
  if (!disk.mounted()) GTEST_SKIP() << disk.why_not();
  expect_a_large_file_to_be_gone_on_with();
}

TEST_F(Interrupted, ALargeFileThatChangedIsReadFromItsBeginning) {
  put_file(desk.source() + "/a.txt", "before it");
  put_file(desk.source() + "/image.raw", noise(40'000'000, 3));
  define("9 MB");
  interrupt(1);
  put_file(desk.source() + "/image.raw", noise(40'000'000, 4));
  Json report = run();
  EXPECT_GE(report["bytes"]["copied"], 40'000'000);
  // Parts that hold nothing but what is out of date are not kept.
  std::uint64_t stored = 0;
  for (const auto& file : fs::directory_iterator(desk.set_folder("c1-0")))
    stored += file.file_size();
  EXPECT_LT(stored, 52'000'000u);
  expect_restores();
}

TEST_F(Interrupted, WhatCannotBeGoneOnWithIsSaidAndMadeAnew) {
  put_files(4, 900);
  define();
  set_key("report.suspect_above", "100%");
  run();
  put_files(40);
  interrupt(7);
  Ran ran = desk.kestrum({"run", "desk", "--kind", "full"});
  EXPECT_EQ(ran.exit, 0);
  EXPECT_NE(ran.err.find("cannot be gone on with: it was incremental, and a full set is due"),
            std::string::npos)
      << ran.err;
  expect_restores();
  put_files(40, 300);
  interrupt(7);
  set_key("compression.level", "fast");
  ran = desk.kestrum({"run", "desk"});
  EXPECT_NE(ran.err.find("compression, part size or key have changed"), std::string::npos)
      << ran.err;
  expect_restores();
}

// Plain tar could not put the link where it has just put a folder.
TEST_F(Interrupted, AFolderThatBecameALinkIsNotGoneOnWith) {
  put_files(40);
  define();
  interrupt(7);
  fs::rename(desk.source() + "/folder-0", desk.source() + "/moved");
  fs::create_directory_symlink("moved", desk.source() + "/folder-0");
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 0);
  EXPECT_NE(ran.err.find("/folder-0 is no folder any more"), std::string::npos) << ran.err;
  expect_restores();
  std::string to = desk.folder / "by-tar", set = desk.set_folder("c1-0");
  fs::create_directories(to);
  Ran tar = run_program(
      {"bash", "-c", "cat " + set + "/part-*.tar.zst | zstd -dcq | tar -xf - -C " + to});
  EXPECT_EQ(tar.exit, 0) << tar.err;
  EXPECT_EQ(fs::read_symlink(to + desk.source() + "/folder-0"), "moved");
}

TEST_F(Interrupted, APartThatTheDiskLostIsCopiedAgain) {
  put_files(40);
  define();
  interrupt(9);
  std::string part = unfinished() + "/part-000006.tar.zst";
  std::string bytes = read_file(part);
  bytes[bytes.size() / 2] = static_cast<char>(bytes[bytes.size() / 2] ^ 1);
  write_file(part, bytes);
  Json report = run();
  EXPECT_EQ(report["continued"], true);
  EXPECT_GT(report["bytes"]["copied"], 28 * kFile);
  EXPECT_LT(report["bytes"]["copied"], 34 * kFile);
  expect_restores();
}

TEST_F(Interrupted, PruneGivesTheRoomBackFirst) {
  put_files(4, 900);
  define();
  run();
  put_files(40);
  interrupt(7);
  Json pruned = desk.json({"prune", "desk"});
  EXPECT_NE(unfinished(), "") << "it stays while nobody asks for room";
  pruned = desk.json({"prune", "desk", "--to-free", "1 MB"});
  EXPECT_EQ(pruned["removed"][0]["set"], "unfinished");
  EXPECT_GE(pruned["freed"], 6'000'000);
  EXPECT_EQ(unfinished(), "");
  EXPECT_EQ(run()["continued"], false);
  expect_restores();
}

}  // namespace
}  // namespace kestrum::test
