// Everything that belongs to a file comes back with it.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Metadata : public testing::Test {
 protected:
  // Backs the source up, restores it, and compares the two.
  std::string round_trip() {
    if (!defined_) desk.define({"--protection", "none"});
    defined_ = true;
    Ran ran = desk.kestrum({"run", "desk"});
    EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
    fs::remove_all(out());
    ran = desk.kestrum({"restore", "desk", "--to", out()});
    EXPECT_EQ(ran.exit, 0) << ran.err;
    return difference(tree_of(desk.source()), tree_of(out()));
  }
  std::string out() const { return desk.folder / "out"; }
  std::string top() const { return desk.source(); }
  Desk desk;

 private:
  bool defined_ = false;
};

TEST_F(Metadata, AttributesAndAccessLists) {
  put_file(top() + "/file", "x");
  fs::create_directory(top() + "/folder");
  if (::setxattr((top() + "/file").c_str(), "user.mood", "calm\0sea", 8, 0) != 0) {
    GTEST_SKIP() << "this filesystem keeps no attributes";
  }
  ::setxattr((top() + "/folder").c_str(), "user.empty", "", 0, 0);
  Ran acl = run_program({"setfacl", "-m", "u:12345:rw,g:54321:r", top() + "/file"});
  run_program({"setfacl", "-d", "-m", "u:12345:rwx", top() + "/folder"});
  EXPECT_EQ(round_trip(), "");
  if (acl.exit == 0) {
    EXPECT_EQ(run_script("cd " + top() + "; getfacl -n file folder").out,
              run_script("cd " + out() + "; getfacl -n file folder").out);
  }
  // A change of attributes alone is noticed, and costs no content.
  ::setxattr((top() + "/file").c_str(), "user.mood", "stormy", 6, 0);
  EXPECT_EQ(round_trip(), "");
  Json sets = desk.json({"sets", "desk"});
  EXPECT_EQ(sets["chains"][0]["sets"][1]["bytes_copied"], 0);
}

TEST_F(Metadata, HolesStayHoles) {
  auto sparse = [&](const std::string& name, off_t size, std::vector<off_t> data) {
    int fd = ::open((top() + "/" + name).c_str(), O_WRONLY | O_CREAT, 0644);
    ASSERT_EQ(::ftruncate(fd, size), 0);
    for (off_t at : data) ASSERT_EQ(::pwrite(fd, "some data here", 14, at), 14);
    ::close(fd);
  };
  sparse("all hole", 30'000'000, {});
  sparse("small", 1'000'000, {500'000});
  sparse("large", 300'000'000, {0, 100'000'000, 299'999'980});
  EXPECT_EQ(round_trip(), "");
  for (const char* name : {"all hole", "small", "large"}) {
    struct stat before {
    }, after{};
    ::stat((top() + "/" + name).c_str(), &before);
    ::stat((out() + "/" + name).c_str(), &after);
    EXPECT_LE(after.st_blocks, before.st_blocks + 64) << name;
  }
  Json sets = desk.json({"sets", "desk"});
  EXPECT_LT(sets["chains"][0]["sets"][0]["bytes_stored"].get<int>(), 200'000);
}

TEST_F(Metadata, TimesModesAndOwnersOfEverything) {
  put_file(top() + "/setuid", "x", 04755);
  put_file(top() + "/nothing allowed", "x", 0000);
  fs::create_directory(top() + "/sticky");
  ::chmod((top() + "/sticky").c_str(), 01777);
  put_file(top() + "/old", "x");
  timespec before_1970[2] = {{-86'400, 5}, {-86'400, 5}};
  ::utimensat(AT_FDCWD, (top() + "/old").c_str(), before_1970, 0);
  put_file(top() + "/far off", "x");
  timespec far[2] = {{9'000'000'000, 999'999'999}, {9'000'000'000, 999'999'999}};
  ::utimensat(AT_FDCWD, (top() + "/far off").c_str(), far, 0);
  if (::geteuid() == 0) {
    put_file(top() + "/somebody's", "x");
    if (::chown((top() + "/somebody's").c_str(), 12345, 3'000'000'000U) != 0) FAIL();
    ::mknod((top() + "/device").c_str(), S_IFCHR | 0620, makedev(1, 3));
    ::mknod((top() + "/block").c_str(), S_IFBLK | 0620, makedev(7, 200));
  }
  ::mkfifo((top() + "/pipe").c_str(), 0600);
  EXPECT_EQ(round_trip(), "");
}

// 1601 is what a Windows disk says where it knows no time.
TEST_F(Metadata, TimesThatNoClockTells) {
  fs::create_directory(top() + "/far");
  std::string far = top() + "/far";
  if (::geteuid() != 0 || ::mount("tmpfs", far.c_str(), "tmpfs", 0, "size=1m") != 0) {
    GTEST_SKIP() << "needs root, for a filesystem that holds such times";
  }
  const std::vector<timespec> times = {{-11'644'473'600, 0}, {-11'644'473'600, 250'000'000},
                                       {-1, 999'999'999},    {0, 1},
                                       {9'300'000'000, 5},   {16'725'225'600, 0},
                                       {884'541'340'800, 7}};
  for (std::size_t i = 0; i < times.size(); ++i) {
    std::string path = far + "/" + std::to_string(i);
    put_file(path, "x");
    timespec both[2] = {times[i], times[i]};
    ASSERT_EQ(::utimensat(AT_FDCWD, path.c_str(), both, 0), 0);
  }
  desk.define({"--protection", "none", "--from", far});
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  Json again = desk.json({"run", "desk"})["runs"][0];
  EXPECT_EQ(again["files"]["same"], times.size()) << "the index holds them too";
  std::string back = far + "/back";
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", back}).exit, 0);
  EXPECT_EQ(desk.kestrum({"look", "desk", far}).exit, 0);
  std::string set = desk.set_folder("c1-0"), by_tar = far + "/by-tar";
  fs::create_directory(by_tar);
  run_script("cat " + set + "/part-*.tar.zst | zstd -dcq | tar -xf - -C " + by_tar);
  for (const std::string& from : {back + "/far", by_tar + far}) {
    for (std::size_t i = 0; i < times.size(); ++i) {
      struct stat st {};
      ASSERT_EQ(::lstat((from + "/" + std::to_string(i)).c_str(), &st), 0) << from;
      EXPECT_EQ(st.st_mtim.tv_sec, times[i].tv_sec) << from << i;
      EXPECT_EQ(st.st_mtim.tv_nsec, times[i].tv_nsec) << from << i;
    }
  }
  ::umount2(far.c_str(), MNT_DETACH);
}

TEST_F(Metadata, LinksOfBothKinds) {
  put_file(top() + "/b/first", "linked");
  for (const char* name : {"a", "c", "b/second"})
    fs::create_hard_link(top() + "/b/first", top() + "/" + name);
  fs::create_symlink(std::string(3000, 'x'), top() + "/long link");
  fs::create_directory_symlink("/", top() + "/to the root");
  EXPECT_EQ(round_trip(), "");
  // The first name goes: the others stay one file.
  fs::remove(top() + "/a");
  EXPECT_EQ(round_trip(), "");
  // One of them alone is a file of its own.
  Ran ran = desk.kestrum({"restore", "desk", top() + "/c", "--to", desk.folder / "one"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(read_file(desk.folder / "one/c"), "linked");
  // The content changes under all names at once.
  put_file(top() + "/c", "changed under every name");
  EXPECT_EQ(round_trip(), "");
}

TEST_F(Metadata, LongNamesAndDeepFolders) {
  put_file(top() + "/" + std::string(255, 'n'), "x");
  std::string deep = top();
  for (int i = 0; i < 120; ++i) deep += "/a folder of some length " + std::to_string(i % 10);
  fs::create_directories(deep);
  put_file(deep + "/bottom", "deep down");
  EXPECT_EQ(round_trip(), "");
}

TEST_F(Metadata, EmptyThings) {
  put_file(top() + "/empty", "");
  put_file(top() + "/empty too", "");
  fs::create_directory(top() + "/empty folder");
  EXPECT_EQ(round_trip(), "");
  put_file(top() + "/empty", "not any more");
  EXPECT_EQ(round_trip(), "");
  put_file(top() + "/empty", "");
  EXPECT_EQ(round_trip(), "");
}

TEST_F(Metadata, ManySmallPartsForOneFile) {
  put_file(top() + "/big", noise(3'000'000, 1));
  desk.define({"--protection", "none", "--part-size", "100 kB"});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  EXPECT_GT(desk.json({"sets", "desk"})["chains"][0]["sets"][0]["parts"].get<int>(), 29);
  ASSERT_EQ(desk.kestrum({"restore", "desk", "--to", out()}).exit, 0);
  EXPECT_EQ(difference(tree_of(top()), tree_of(out())), "");
}

}  // namespace
}  // namespace kestrum::test
