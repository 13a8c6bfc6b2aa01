#include "kestrum/restore/target_folder.h"

#include <gtest/gtest.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <filesystem>

#include "kestrum/base/error.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

class Target : public testing::Test {
 protected:
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

TEST_F(Target, IsMadeWithTheFoldersAboveIt) {
  EXPECT_TRUE(tree.was_made());
  TargetFolder again(folder / "target");
  EXPECT_FALSE(again.was_made());
  TargetFolder deep(folder / "a/b/c");
  EXPECT_TRUE(fs::is_directory(folder / "a/b/c"));
}

TEST_F(Target, MakesFoldersOnceAndGoesOnFromTheOneThatIsOpen) {
  EXPECT_TRUE(tree.make_folder("a/b/c"));
  EXPECT_FALSE(tree.make_folder("a/b/c"));
  EXPECT_TRUE(tree.make_folder("a/b/d"));
  EXPECT_TRUE(tree.make_folder("z"));
  EXPECT_TRUE(fs::is_directory(folder / "target/a/b/d"));
}

TEST_F(Target, NeverWalksThroughALinkNorAFile) {
  fs::create_directory(folder / "outside");
  fs::create_directory_symlink(folder / "outside", folder / "target/link");
  test::put_file(folder / "target/file", "x");
  EXPECT_THROW(tree.folder_fd("link"), Error);
  EXPECT_THROW(tree.folder_fd("link/below"), Error);
  EXPECT_THROW(tree.make_folder("file"), Error);
  EXPECT_THROW(TargetFolder::NewFile(tree, "link/new"), Error);
  EXPECT_TRUE(fs::is_empty(folder / "outside"));
}

TEST_F(Target, AFileTakesItsNameOnlyWhenItIsKept) {
  {
    TargetFolder::NewFile file(tree, "sub/file");
    ASSERT_EQ(::write(file.fd(), "half", 4), 4);
    EXPECT_FALSE(fs::exists(folder / "target/sub/file"));
  }
  EXPECT_TRUE(fs::is_empty(folder / "target/sub")) << "nothing is left of one that was not kept";
  {
    TargetFolder::NewFile file(tree, "sub/file");
    EXPECT_TRUE(file.keep());
  }
  EXPECT_TRUE(fs::exists(folder / "target/sub/file"));
  EXPECT_EQ(std::distance(fs::directory_iterator(folder / "target/sub"), {}), 1);
}

TEST_F(Target, NeverReplacesWhatIsThere) {
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

TEST_F(Target, GivesFilesTheirMetadata) {
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

TEST_F(Target, GivesLinksAndPipesTheirTimes) {
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

TEST_F(Target, FoldersTakeTheirMetadataLast) {
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

}  // namespace
}  // namespace kestrum
