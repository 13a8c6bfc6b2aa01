#include "kestrum/restore/target_folder.h"

#include <gtest/gtest.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <filesystem>

#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

// With files that have no name until they are right, and with temporary names.
class Target : public testing::TestWithParam<bool> {
 protected:
  Target() { below::use_unnamed_files(GetParam()); }
  ~Target() override { below::use_unnamed_files(true); }
  Entry entry(EntryType type) {
    Entry e;
    e.type = type;
    e.mode = 0640;
    e.uid = ::getuid();
    e.gid = ::getgid();
    e.mtime = 1'600'000'000'123'456'789;
    return e;
  }
  test::TempFolder folder;
  TargetFolder tree{folder / "target"};
  UnsetMetadata unset;
};

TEST_P(Target, IsMadeWithTheFoldersAboveIt) {
  EXPECT_TRUE(tree.was_made());
  TargetFolder again(folder / "target");
  EXPECT_FALSE(again.was_made());
  TargetFolder deep(folder / "a/b/c");
  EXPECT_TRUE(fs::is_directory(folder / "a/b/c"));
}

TEST_P(Target, MakesFoldersOnceAndGoesOnFromTheOneThatIsOpen) {
  EXPECT_TRUE(tree.make_folder("a/b/c"));
  EXPECT_FALSE(tree.make_folder("a/b/c"));
  EXPECT_TRUE(tree.make_folder("a/b/d"));
  EXPECT_TRUE(tree.make_folder("z"));
  EXPECT_TRUE(fs::is_directory(folder / "target/a/b/d"));
}

TEST_P(Target, NeverWalksThroughALinkNorAFile) {
  fs::create_directory(folder / "outside");
  fs::create_directory_symlink(folder / "outside", folder / "target/link");
  test::put_file(folder / "target/file", "x");
  EXPECT_THROW(tree.folder_fd("link"), Error);
  EXPECT_THROW(tree.folder_fd("link/below"), Error);
  EXPECT_THROW(tree.make_folder("file"), Error);
  EXPECT_THROW(TargetFolder::NewFile(tree, "link/new"), Error);
  EXPECT_TRUE(fs::is_empty(folder / "outside"));
}

TEST_P(Target, AFileTakesItsNameOnlyWhenItIsKept) {
  {
    TargetFolder::NewFile file(tree, "sub/file");
    ASSERT_EQ(::write(file.fd(), "half", 4), 4);
    EXPECT_FALSE(fs::exists(folder / "target/sub/file"));
  }
  EXPECT_TRUE(fs::is_empty(folder / "target/sub")) << "nothing is left of one that was not kept";
  {
    TargetFolder::NewFile file(tree, "sub/file"), first(tree, "first");
    EXPECT_TRUE(file.keep());
    EXPECT_TRUE(first.keep());
  }
  EXPECT_TRUE(fs::exists(folder / "target/sub/file"));
  EXPECT_TRUE(fs::exists(folder / "target/first"));
  EXPECT_EQ(std::distance(fs::directory_iterator(folder / "target/sub"), {}), 1);
}

TEST_P(Target, NeverReplacesWhatIsThere) {
  test::put_file(folder / "target/file", "mine");
  TargetFolder::NewFile file(tree, "file");
  EXPECT_FALSE(file.keep());
  EXPECT_EQ(read_file(folder / "target/file"), "mine");
  Entry link = entry(EntryType::kLink);
  link.target = "elsewhere";
  EXPECT_FALSE(tree.make_link("file", link, unset));
  EXPECT_FALSE(tree.make_fifo_or_device("file", entry(EntryType::kFifo), unset));
  test::put_file(folder / "target/other", "x");
  EXPECT_FALSE(tree.make_hardlink(tree, "other", "file"));
}

TEST_P(Target, PutsAFileInThePlaceOfAnother) {
  test::put_file(folder / "target/sub/file", "of yesterday");
  fs::create_directory(folder / "target/sub/empty");
  test::put_file(folder / "target/sub/full/file", "in it");
  for (const char* name : {"sub/file", "sub/empty", "sub/new", "sub/full"}) {
    TargetFolder::NewFile file(tree, name);
    ASSERT_EQ(::write(file.fd(), "of today", 8), 8);
    EXPECT_EQ(file.keep(true), name != std::string("sub/full")) << name;
  }
  EXPECT_EQ(list_folder(folder / "target/sub"),
            (std::vector<std::string>{"empty", "file", "full", "new"}));
  for (const char* name : {"file", "empty", "new"}) {
    EXPECT_EQ(read_file(folder / "target/sub/" + std::string(name)), "of today");
  }
  EXPECT_EQ(read_file(folder / "target/sub/full/file"), "in it");
}

// Whoever has a file before it gets its owner and its access list may do no more than in the end.
TEST_P(Target, AFileBeginsWithNoMoreRightsThanItEndsWith) {
  Entry e = entry(EntryType::kFile);
  for (auto [mode, first] : {std::pair{0644, 0644},
                             {0755, 0755},
                             {0640, 0600},
                             {0664, 0644},
                             {0604, 0600},
                             {04755, 0755},
                             {0007, 0000},
                             {0444, 0444}}) {
    e.mode = static_cast<std::uint32_t>(mode);
    EXPECT_EQ(TargetFolder::first_mode(e), static_cast<mode_t>(first)) << std::oct << mode;
    std::string name = "file-" + std::to_string(mode);
    TargetFolder::NewFile file(tree.spot(name), TargetFolder::first_mode(e));
    file.set_metadata(e, tree.owner_of(e), unset);
    ASSERT_TRUE(file.keep());
    struct stat st {};
    ASSERT_EQ(::stat((folder / "target/" + name).c_str(), &st), 0);
    EXPECT_EQ(st.st_mode & 07777, e.mode);
    EXPECT_EQ(st.st_uid, e.uid);
    EXPECT_EQ(FileTime(st.st_mtim), e.mtime);
  }
  e.mode = 0644;
  e.xattrs["system.posix_acl_access"] = "who may what";
  EXPECT_EQ(TargetFolder::first_mode(e), 0600U);
}

TEST_P(Target, GivesFilesToTheirOwners) {
  if (::geteuid() != 0) GTEST_SKIP() << "only root can give files away";
  Entry e = entry(EntryType::kFile);
  e.uid = e.gid = 65534;
  TargetFolder::NewFile file(tree.spot("file"), TargetFolder::first_mode(e));
  file.set_metadata(e, tree.owner_of(e), unset);
  ASSERT_TRUE(file.keep());
  struct stat st {};
  ASSERT_EQ(::stat((folder / "target/file").c_str(), &st), 0);
  EXPECT_EQ(st.st_uid, 65534U);
  EXPECT_EQ(st.st_gid, 65534U);
  EXPECT_EQ(st.st_mode & 07777, 0640U);
  EXPECT_EQ(st.st_nlink, 1U);
}

TEST_P(Target, GivesFilesTheirMetadata) {
  Entry e = entry(EntryType::kFile);
  e.mode = 04751;
  e.xattrs["user.note"] = "value";
  TargetFolder::NewFile file(tree, "file");
  tree.set_metadata(file.fd(), e, unset);
  ASSERT_TRUE(file.keep());
  struct stat st {};
  ASSERT_EQ(::stat((folder / "target/file").c_str(), &st), 0);
  EXPECT_EQ(st.st_mode & 07777, 04751U);
  EXPECT_EQ(FileTime(st.st_mtim), e.mtime);
  char value[16];
  ssize_t n = ::getxattr((folder / "target/file").c_str(), "user.note", value, sizeof value);
  EXPECT_TRUE(unset.attributes == 1 || std::string(value, static_cast<std::size_t>(n)) == "value");
}

TEST_P(Target, GivesLinksAndPipesTheirTimes) {
  Entry link = entry(EntryType::kLink);
  link.target = "nowhere";
  EXPECT_TRUE(tree.make_link("link", link, unset));
  EXPECT_TRUE(tree.make_fifo_or_device("pipe", entry(EntryType::kFifo), unset));
  for (const char* name : {"link", "pipe"}) {
    struct stat st {};
    ASSERT_EQ(::lstat((folder / "target/" + std::string(name)).c_str(), &st), 0);
    EXPECT_EQ(FileTime(st.st_mtim), link.mtime) << name;
  }
  EXPECT_EQ(fs::read_symlink(folder / "target/link"), "nowhere");
}

TEST_P(Target, FoldersTakeTheirMetadataLast) {
  tree.make_folder("read-only");
  Entry e = entry(EntryType::kFolder);
  e.mode = 0555;
  TargetFolder::NewFile file(tree, "read-only/file");
  ASSERT_TRUE(file.keep());
  tree.set_folder_metadata("read-only", e, unset);
  struct stat st {};
  ASSERT_EQ(::stat((folder / "target/read-only").c_str(), &st), 0);
  EXPECT_EQ(st.st_mode & 0777, 0555U);
  EXPECT_EQ(FileTime(st.st_mtim), e.mtime);
}

INSTANTIATE_TEST_SUITE_P(Files, Target, testing::Bool(), [](const auto& unnamed) {
  return std::string(unnamed.param ? "WithoutAName" : "UnderATemporaryName");
});

}  // namespace
}  // namespace kestrum
