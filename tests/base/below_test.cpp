// Nothing below a folder that is held open leads out of it, whatever somebody makes of the names in
// it meanwhile: both ways of resolving a path are held to the same.
#include "kestrum/base/below.h"

#include <dirent.h>
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/syscall.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <string>
#include <thread>
#include <vector>

#include "kestrum/base/error.h"
#include "kestrum/base/followed.h"
#include "support/temp_folder.h"
#include "support/tree.h"

namespace {
thread_local bool listed_twice = false;
}

// In place of the system's: as a filesystem gives names whose folder changes meanwhile.
extern "C" ssize_t getdents64(int fd, void* buffer, std::size_t length) noexcept {
  ssize_t got = ::syscall(SYS_getdents64, fd, buffer, listed_twice ? length / 2 : length);
  if (!listed_twice || got <= 0) return got;
  auto bytes = static_cast<std::size_t>(got);
  std::memcpy(static_cast<char*>(buffer) + bytes, buffer, bytes);
  return 2 * got;
}

namespace kestrum::test {
namespace {

TEST(BelowListing, GivesANameOnceThoughTheFilesystemGivesItTwice) {
  TempFolder folder;
  for (const char* name : {"b", "a", "c"}) write_file(folder / name, "");
  Fd fd = open_named(folder / "", O_RDONLY | O_DIRECTORY);
  std::vector<std::string> names;
  listed_twice = true;
  bool listed = below::list(fd.get(), names);
  listed_twice = false;
  ASSERT_TRUE(listed);
  EXPECT_EQ(names, (std::vector<std::string>{"a", "b", "c"}));
  ASSERT_TRUE(below::list(fd.get(), names)) << "from its start again";
  EXPECT_EQ(names.size(), 3U);
}

namespace fs = std::filesystem;

// `held` is open; beside it lie decoys that nothing may touch.
class Below : public testing::TestWithParam<bool> {
 protected:
  void SetUp() override {
    below::use_openat2(GetParam());
    make_folders(held() + "/a/b");
    make_folders(decoys());
    write_file(held() + "/a/b/file", "inside");
    write_file(decoys() + "/file", "outside");
    write_file(decoys() + "/file.new", "outside too");
    fs::create_symlink(decoys(), held() + "/a/out");
    fs::create_symlink("../../decoys", held() + "/a/up");
    fs::create_symlink("b", held() + "/a/within");
    fs::create_symlink(decoys() + "/file", held() + "/a/to-file");
    fs::create_symlink("/proc/self/root", held() + "/a/magic");
    before_ = tree_of(decoys());
    root_ = Fd(::open(held().c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  }
  void TearDown() override {
    EXPECT_EQ(tree_of(decoys()), before_) << "something outside was touched";
    below::use_openat2(true);
  }
  std::string held() const { return folder_ / "held"; }
  std::string decoys() const { return folder_ / "decoys"; }
  int root() const { return root_.get(); }

  TempFolder folder_;
  Tree before_;
  Fd root_;
};

INSTANTIATE_TEST_SUITE_P(Resolved, Below, testing::Bool(), [](const auto& how) {
  return how.param ? std::string("AtOnce") : std::string("NameByName");
});

const char* const kWaysOut[] = {"a/out/file",
                                "a/up/file",
                                "a/magic/etc/passwd",
                                "a/to-file",
                                "../decoys/file",
                                "a/../../decoys/file",
                                "/etc/passwd",
                                "a//b/file",
                                "a/./b/file",
                                "a/b/..",
                                "..",
                                ".",
                                "a/",
                                "a/within/file"};

TEST_P(Below, NoPathLeadsOutOrThroughALink) {
  for (const char* path : kWaysOut) {
    SCOPED_TRACE(path);
    struct stat st {};
    std::string text;
    EXPECT_FALSE(below::open(root(), path, O_RDONLY));
    EXPECT_FALSE(below::open_regular(root(), path, O_RDONLY));
    EXPECT_FALSE(below::create(root(), path));
    EXPECT_FALSE(below::make_folder(root(), path));
    EXPECT_FALSE(below::make_node(root(), path, S_IFIFO | 0600, 0));
    EXPECT_FALSE(below::make_link(root(), path, "x"));
    EXPECT_FALSE(below::make_hardlink(root(), "a/b/file", root(), path));
    EXPECT_FALSE(below::remove_folder(root(), path));
    EXPECT_FALSE(below::remove_tree(root(), path));
    EXPECT_FALSE(below::open_folder(root(), path));
    EXPECT_FALSE(below::open_passage(root(), path));
    // A link itself can be looked at, moved and removed: it is no way out as long as nobody
    // follows.
    if (std::string(path) == "a/to-file") continue;
    EXPECT_FALSE(below::look(root(), path, st));
    EXPECT_FALSE(below::read_link(root(), path, text));
    EXPECT_FALSE(below::rename(root(), "a/b/file", root(), path));
    EXPECT_FALSE(below::rename(root(), path, root(), "a/b/new"));
    EXPECT_FALSE(below::remove(root(), path));
  }
  EXPECT_EQ(read_file(held() + "/a/b/file"), "inside");
}

TEST_P(Below, WhatIsInsideIsMadeMovedAndRemoved) {
  struct stat st {};
  EXPECT_TRUE(below::look(root(), "", st));
  EXPECT_TRUE(below::look(root(), "a/b/file", st));
  EXPECT_EQ(st.st_size, 6);
  EXPECT_TRUE(below::make_folder(root(), "a/b/c"));
  EXPECT_FALSE(below::make_folder(root(), "a/b/c"));
  EXPECT_EQ(errno, EEXIST);
  Fd made = below::create(root(), "a/b/c/new");
  ASSERT_TRUE(made);
  EXPECT_EQ(::write(made.get(), "text", 4), 4);
  EXPECT_TRUE(below::make_hardlink(root(), "a/b/c/new", root(), "a/other"));
  EXPECT_TRUE(below::rename(root(), "a/b/c/new", root(), "a/moved"));
  EXPECT_EQ(read_file(held() + "/a/moved"), "text");
  EXPECT_FALSE(below::exists(root(), "a/b/c/new"));
  EXPECT_TRUE(below::remove(root(), "a/to-file"));
  EXPECT_FALSE(below::remove_folder(root(), "a/b")) << "it is not empty";
  EXPECT_TRUE(below::remove_tree(root(), "a"));
  EXPECT_FALSE(below::exists(root(), "a"));
}

TEST_P(Below, AFolderIsListedAsOftenAsAsked) {
  std::vector<std::string> names, expected = {"b", "magic", "out", "to-file", "up", "within"};
  Fd folder = below::open_folder(root(), "a"), passage = below::open_passage(root(), "a");
  for (int i = 0; i < 3; ++i) {
    ASSERT_TRUE(below::list(folder.get(), names));
    EXPECT_EQ(names, expected);
    ASSERT_TRUE(below::list(passage.get(), names)) << "one that is open only to go on from";
    EXPECT_EQ(names, expected);
  }
  write_file(held() + "/a/new", "");
  ASSERT_TRUE(below::list(folder.get(), names));
  EXPECT_EQ(names.size(), expected.size() + 1);
  EXPECT_FALSE(below::list(-1, names));
}

TEST_P(Below, ErrorsTellWhatIsInTheWay) {
  EXPECT_FALSE(below::open_folder(root(), "a/out"));
  EXPECT_TRUE(errno == ELOOP || errno == ENOTDIR) << errno;
  EXPECT_FALSE(below::open(root(), "a/b/file/x", O_RDONLY));
  EXPECT_EQ(errno, ENOTDIR);
  EXPECT_FALSE(below::open(root(), "a/nothing/x", O_RDONLY));
  EXPECT_EQ(errno, ENOENT);
  EXPECT_FALSE(below::open_regular(root(), "a/to-file", O_RDONLY));
  EXPECT_EQ(errno, ELOOP);
  EXPECT_FALSE(below::open_regular(root(), "a/b", O_RDONLY));
  EXPECT_EQ(errno, kNotRegular);
}

// Opening a FIFO without a writer would wait for ever.
TEST_P(Below, NothingButARegularFileIsOpenedAsOne) {
  ASSERT_TRUE(below::make_node(root(), "a/fifo", S_IFIFO | 0600, 0));
  EXPECT_FALSE(below::open_regular(root(), "a/fifo", O_RDONLY));
  EXPECT_EQ(errno, kNotRegular);
  EXPECT_FALSE(below::create(root(), "a/fifo"));
  if (::geteuid() != 0) return;
  ASSERT_TRUE(below::make_node(root(), "a/null", S_IFCHR | 0600, gnu_dev_makedev(1, 3)));
  EXPECT_FALSE(below::open_regular(root(), "a/null", O_WRONLY));
  EXPECT_EQ(errno, kNotRegular);
}

TEST_P(Below, MetadataIsThatOfWhatIsOpen) {
  ASSERT_TRUE(below::make_node(root(), "a/fifo", S_IFIFO | 0600, 0));
  Fd held_fifo = below::open(root(), "a/fifo", O_PATH);
  Fd held_link = below::open(root(), "a/to-file", O_PATH);
  // Somebody swaps both for ways out before they are given their metadata.
  fs::rename(held() + "/a/fifo", held() + "/a/aside");
  fs::create_symlink(decoys() + "/file", held() + "/a/fifo");
  EXPECT_TRUE(below::set_mode(held_fifo.get(), 0640));
  timespec times[2] = {{1000, 0}, {1000, 0}};
  EXPECT_TRUE(below::set_times(held_fifo.get(), times));
  EXPECT_TRUE(below::set_times(held_link.get(), times));
  EXPECT_TRUE(below::set_owner(held_link.get(), ::geteuid(), ::getegid()));
  struct stat st {};
  ASSERT_TRUE(below::look(root(), "a/aside", st));
  EXPECT_EQ(st.st_mode & 07777, 0640U);
  EXPECT_EQ(st.st_mtim.tv_sec, 1000);
  ASSERT_TRUE(below::look(root(), "a/to-file", st));
  EXPECT_EQ(st.st_mtim.tv_sec, 1000) << "the link's own time";
}

// A folder on the way is exchanged for a link, back and forth, while everything is tried.
TEST_P(Below, ASwappedFolderLeadsNowhere) {
  std::atomic<bool> done = false;
  std::thread swapping([&] {
    fs::create_symlink(decoys(), held() + "/way-out");
    while (!done) {
      ::renameat2(root(), "a", root(), "way-out", RENAME_EXCHANGE);
    }
  });
  for (int i = 0; i < 3000; ++i) {
    if (Fd fd = below::open_regular(root(), "a/b/file", O_RDONLY)) {
      char text[16] = {};
      EXPECT_EQ(::read(fd.get(), text, sizeof text), 6);
      EXPECT_STREQ(text, "inside");
    }
    EXPECT_FALSE(below::open_regular(root(), "a/file", O_RDONLY)) << "that is a decoy";
    if (Fd fd = below::create(root(), "a/file.made")) {
      EXPECT_EQ(::write(fd.get(), "x", 1), 1);
    }
    (void)below::rename(root(), "a/file.made", root(), "a/file.new");
    below::remove(root(), "a/file.new");
    below::remove(root(), "a/file");
    (void)below::make_folder(root(), "a/made");
    (void)below::remove_tree(root(), "a/made");
  }
  done = true;
  swapping.join();
}

// ---- What a person named

class Named : public testing::Test {
 protected:
  void SetUp() override {
    if (::geteuid() != 0) GTEST_SKIP() << "needs root, for links of several owners";
    for (const char* name : {"/of-root", "/of-user", "/of-user/theirs", "/secret"}) {
      make_folders(at(name));
      ::chmod(at(name).c_str(), 0755);
    }
    ::chmod(at("").c_str(), 0755);
    for (const char* name : {"/of-user", "/of-user/theirs"}) own(name);
    write_file(at("/secret/file"), "secret");
  }
  std::string at(const std::string& path) const { return std::string(folder_.path()) + path; }
  void own(const std::string& path) const {
    ASSERT_EQ(::lchown(at(path).c_str(), kUser, kUser), 0);
  }
  static constexpr uid_t kUser = 65534;
  TempFolder folder_;
};

TEST_F(Named, LinksOfRootAndOfTheFoldersOwnerAreFollowed) {
  fs::create_symlink("of-user", at("/link"));
  EXPECT_TRUE(is_named_folder(at("/link/theirs"))) << "root's link in root's folder";
  fs::create_symlink("theirs", at("/of-user/link"));
  own("/of-user/link");
  EXPECT_TRUE(open_named(at("/of-user/link"), O_RDONLY | O_DIRECTORY)) << "all one owner's";
  fs::create_symlink(at("/link/link"), at("/again"));
  EXPECT_TRUE(is_named_folder(at("/again"))) << "a link to a link";
}

TEST_F(Named, ALinkOfAUserToWhatIsRootsIsNot) {
  fs::create_symlink(at("/secret"), at("/of-user/link"));
  own("/of-user/link");
  EXPECT_FALSE(open_named(at("/of-user/link"), O_RDONLY | O_DIRECTORY));
  EXPECT_EQ(errno, kForeignLink);
  EXPECT_FALSE(open_named(at("/of-user/link/file"), O_RDONLY));
  EXPECT_EQ(errno, kForeignLink);
  EXPECT_TRUE(is_named(at("/of-user/link/file"))) << "nobody can say that it is gone";
  struct stat st {};
  EXPECT_FALSE(look_named(at("/of-user/link"), st));
}

TEST_F(Named, LinksThatLeadNowhereOrRoundEnd) {
  fs::create_symlink("nowhere", at("/link"));
  EXPECT_FALSE(open_named(at("/link"), O_RDONLY));
  EXPECT_EQ(errno, ENOENT);
  EXPECT_TRUE(is_named(at("/link")));
  fs::create_symlink("round", at("/round"));
  EXPECT_FALSE(open_named(at("/round"), O_RDONLY));
  EXPECT_EQ(errno, ELOOP);
  EXPECT_FALSE(is_named(at("/nothing/at/all")));
}

}  // namespace
}  // namespace kestrum::test
