// Readers beside runs that prune: what is being read stays, and is told; a restore that is killed
// is finished by the next one.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <set>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class ReadingBeside : public testing::Test {
 protected:
  ReadingBeside() {
    for (int i = 0; i < 30; ++i) {
      put_file(desk.source() + "/file-" + std::to_string(i),
               noise(300'000, static_cast<unsigned>(i)));
    }
    desk.on_day(0);
    desk.define({"--protection", "none", "--level", "off", "--keep-for", "0 days"});
    desk.json({"run", "desk"});
  }
  std::set<std::string> sets() { return desk.sets(); }
  Desk desk;
};

TEST_F(ReadingBeside, WhatIsBeingRestoredIsNotPruned) {
  // A reader that stands still: nobody takes what it writes.
  std::string pipe = desk.folder / "pipe";
  ASSERT_EQ(::mkfifo(pipe.c_str(), 0600), 0);
  Background reader({"sh", "-c",
                     "exec " + shell_quoted(KESTRUM_PROGRAM) + " restore desk file-7 --to - > " +
                         shell_quoted(pipe)},
                    desk.environment);
  int end = ::open(pipe.c_str(), O_RDONLY);
  ASSERT_GE(end, 0);
  char first = 0;
  ASSERT_EQ(::read(end, &first, 1), 1) << reader.output();
  desk.on_day(1);
  Ran ran = desk.kestrum({"run", "desk", "--kind", "full"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_TRUE(sets().contains("c1-0"));
  EXPECT_NE((ran.out + ran.err).find("c1-0 could go, but it is being read"), std::string::npos)
      << ran.out << ran.err;
  std::uint64_t count = 1;
  char buffer[65536];
  for (ssize_t n = 0; (n = ::read(end, buffer, sizeof buffer)) > 0;)
    count += static_cast<std::uint64_t>(n);
  ::close(end);
  EXPECT_EQ(reader.wait().exit, 0);
  EXPECT_EQ(count, 300'000U);
  desk.on_day(2);
  desk.json({"prune", "desk"});
  EXPECT_FALSE(sets().contains("c1-0"));
}

// The folders of a restore get owner, mode and time at its end: whoever does not come to it leaves
// that to the next.
TEST_F(ReadingBeside, ARestoreThatWasKilledIsFinishedByTheNext) {
  if (::geteuid() != 0) GTEST_SKIP() << "owners are compared, which only root can set";
  fs::create_directories(desk.source() + "/a/b");
  put_file(desk.source() + "/a/b/big", noise(60'000'000, 1));
  put_file(desk.source() + "/z", "z");
  ::chmod((desk.source() + "/a").c_str(), 02750);
  run_program({"chown", "-R", "nobody", desk.source() + "/a"});
  timespec then[2] = {{1'600'000'000, 0}, {1'600'000'000, 0}};
  ::utimensat(AT_FDCWD, (desk.source() + "/a/b").c_str(), then, 0);
  desk.on_day(1);
  desk.json({"run", "desk"});
  Tree expected = tree_of(desk.source());
  std::string to = desk.folder / "back";
  Background restore({KESTRUM_PROGRAM, "restore", "desk", "--to", to, "--layout", "full"},
                     desk.environment);
  ASSERT_TRUE(eventually([&] { return path_exists(to + desk.source() + "/a/b"); }));
  restore.signal(SIGKILL);
  restore.wait();
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", to, "--layout", "full"}).exit, 0);
  EXPECT_EQ(difference(expected, tree_of(to + desk.source())), "");
  EXPECT_TRUE(list_folder(desk.folder / "home/state/restores").empty());
  // A folder of the user's own, that happens to lie there, is nobody's to change.
  ::chmod((to + desk.source() + "/a").c_str(), 0700);
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", to, "--layout", "full"}).exit, 0);
  struct stat st {};
  ::stat((to + desk.source() + "/a").c_str(), &st);
  EXPECT_EQ(st.st_mode & 07777, 0700U);
}

TEST_F(ReadingBeside, OneFileInPlaceBringsItsFoldersBackAsTheyWere) {
  if (::geteuid() != 0) GTEST_SKIP() << "owners are compared, which only root can set";
  put_file(desk.source() + "/deep/er/file", "x");
  ::chmod((desk.source() + "/deep").c_str(), 0751);
  ::chmod((desk.source() + "/deep/er").c_str(), 0755);
  run_program({"chown", "-R", "nobody", desk.source() + "/deep"});
  desk.on_day(1);
  desk.json({"run", "desk"});
  Tree expected = tree_of(desk.source());
  fs::remove_all(desk.source() + "/deep");
  std::string file = desk.source() + "/deep/er/file";
  EXPECT_EQ(desk.kestrum({"restore", "desk", file, "--in-place"}).exit, 0);
  EXPECT_EQ(tree_of(desk.source())["/deep"], expected["/deep"]);
  EXPECT_EQ(tree_of(desk.source())["/deep/er"], expected["/deep/er"]);
  // Also where the folder of the job itself has gone.
  fs::remove_all(desk.source());
  EXPECT_EQ(desk.kestrum({"restore", "desk", file, "--in-place"}).exit, 0);
  EXPECT_EQ(tree_of(desk.source())["/deep"], expected["/deep"]);
}

// A copy with holes of a file without: its content is held once, and it comes back with its holes.
TEST_F(ReadingBeside, HolesComeBackWhoeverHoldsTheContent) {
  std::string content(4 << 20, '\0');
  content.replace(1'000'000, 4, "data");
  put_file(desk.source() + "/dense", content);
  desk.on_day(1);
  desk.json({"run", "desk"});
  std::string sparse = desk.source() + "/sparse";
  put_file(sparse, "");
  ASSERT_EQ(::truncate(sparse.c_str(), 4 << 20), 0);
  int fd = ::open(sparse.c_str(), O_WRONLY | O_CLOEXEC);
  ASSERT_EQ(::pwrite(fd, "data", 4, 1'000'000), 4);
  ::close(fd);
  desk.on_day(2);
  EXPECT_EQ(desk.json({"run", "desk"})["runs"][0]["files"]["moved"], 1);
  std::string to = desk.folder / "back";
  ASSERT_EQ(desk.kestrum({"restore", "desk", "--to", to}).exit, 0);
  EXPECT_EQ(read_file(to + "/sparse"), content);
  struct stat st {};
  ASSERT_EQ(::stat((to + "/sparse").c_str(), &st), 0);
  EXPECT_LT(st.st_blocks * 512, 1 << 20);
}

// So they do out of a tar, which is no larger for them.
TEST_F(ReadingBeside, HolesAreHolesInATarToo) {
  struct Sparse {
    std::string name;
    off_t size, data_at;
  };
  const std::vector<Sparse> files = {{"large", off_t{6} << 30, off_t{5} << 30},
                                     {"small", 1 << 20, 300'000},
                                     {"all hole", 1 << 20, -1}};
  for (const Sparse& file : files) {
    std::string path = desk.source() + "/" + file.name;
    put_file(path, "");
    ASSERT_EQ(::truncate(path.c_str(), file.size), 0);
    if (file.data_at < 0) continue;
    int fd = ::open(path.c_str(), O_WRONLY | O_CLOEXEC);
    ASSERT_EQ(::pwrite(fd, "data", 4, file.data_at), 4);
    ::close(fd);
  }
  desk.on_day(1);
  desk.json({"run", "desk"});
  std::string tar = desk.folder / "some.tar", to = desk.folder / "unpacked";
  ASSERT_EQ(desk.kestrum({"restore", "desk", "--as-tar", tar}).exit, 0);
  EXPECT_LT(fs::file_size(tar), 16U << 20) << "with what else there is";
  fs::create_directories(to);
  ASSERT_EQ(run_program({"tar", "-xf", tar, "-C", to}).exit, 0);
  for (const Sparse& file : files) {
    ASSERT_TRUE(path_exists(to + "/" + file.name)) << run_program({"tar", "-tvf", tar}).out;
    EXPECT_EQ(fs::file_size(to + "/" + file.name), static_cast<std::uintmax_t>(file.size));
    Fd fd(::open((to + "/" + file.name).c_str(), O_RDONLY | O_CLOEXEC));
    char found[4] = {};
    if (file.data_at >= 0) {
      EXPECT_EQ(::pread(fd.get(), found, 4, file.data_at), 4);
      EXPECT_EQ(std::string(found, 4), "data") << file.name;
    }
    struct stat st {};
    ASSERT_EQ(::fstat(fd.get(), &st), 0);
    EXPECT_LT(st.st_blocks * 512, 1 << 20) << file.name;
  }
}

// A page that a program writes to through a mapping moves the time of its file once.
TEST_F(ReadingBeside, EditsThroughASharedMappingAreNotMissed) {
  std::string path = desk.source() + "/mapped";
  put_file(path, std::string(8192, 'a'));
  int fd = ::open(path.c_str(), O_RDWR);
  ASSERT_GE(fd, 0);
  void* memory = ::mmap(nullptr, 8192, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
  ASSERT_NE(memory, MAP_FAILED);
  auto* bytes = static_cast<char*>(memory);
  bytes[0] = 'b';
  struct stat before {
  }, after{};
  ::fstat(fd, &before);
  ::sleep(3);  // longer than the coarsest clock of a filesystem
  desk.on_day(1);
  desk.json({"run", "desk"});
  bytes[1] = 'c';
  ::fstat(fd, &after);
  if (before.st_mtim.tv_sec != after.st_mtim.tv_sec)
    GTEST_SKIP() << "it was written back meanwhile";
  desk.on_day(2);
  desk.json({"run", "desk"});
  Ran ran = desk.kestrum({"restore", "desk", "mapped", "--to", "-"});
  ::munmap(memory, 8192);
  ::close(fd);
  EXPECT_EQ(ran.out.substr(0, 3), "bca");
}

}  // namespace
}  // namespace kestrum::test
