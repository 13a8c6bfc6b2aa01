#include "kestrum/place/local_place.h"

#include <gtest/gtest.h>
#include <sys/resource.h>
#include <sys/stat.h>

#include <csignal>
#include <filesystem>

#include "kestrum/archive/packed_file.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/place/reclaiming_place.h"
#include "support/faulty_place.h"
#include "support/stored_digest.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

class Places : public testing::Test {
 protected:
  void put(const std::string& path, const std::string& content) {
    auto file = place.create(path);
    file->write(as_bytes(content));
    file->sync();
  }
  std::string get(const std::string& path, bool from_disk = false) {
    auto file = place.open(path, from_disk);
    Bytes bytes = read_all(*file, 1 << 30, path);
    return std::string(as_text(bytes));
  }
  test::TempFolder folder;
  LocalPlace place{folder.path()};
};

TEST_F(Places, GiveBackWhatWasWrittenFromTheCacheAndFromTheDisk) {
  for (std::size_t size : {0U, 1U, 4095U, 4096U, 1'048'577U, 3'000'000U}) {
    std::string content = test::noise(size, 1);
    put("file", content);
    EXPECT_EQ(get("file"), content) << size;
    EXPECT_EQ(get("file", true), content) << size;
    if (size < 10) continue;
    auto file = place.open("file", true);
    Bytes piece(7);
    file->read_at(size - 7, piece);
    EXPECT_EQ(as_text(piece), content.substr(size - 7));
    EXPECT_THROW(file->read_at(size - 3, piece), Error);
  }
}

TEST_F(Places, KeepOurFilesToOurselves) {
  place.make_folder("a/b/c");
  put("a/b/c/file", "secret");
  struct stat st {};
  ASSERT_EQ(::stat((folder / "a/b/c/file").c_str(), &st), 0);
  EXPECT_EQ(st.st_mode & 0777, 0600U);
  ASSERT_EQ(::stat((folder / "a/b").c_str(), &st), 0);
  EXPECT_EQ(st.st_mode & 0777, 0700U);
}

TEST_F(Places, ListInOrderAndTellFoldersFromFiles) {
  place.make_folder("sets/b");
  put("sets/a", "12345");
  put("sets/c", "");
  auto entries = place.list("sets");
  ASSERT_EQ(entries.size(), 3U);
  EXPECT_EQ(entries[0].name, "a");
  EXPECT_EQ(entries[0].size, 5U);
  EXPECT_TRUE(entries[1].is_folder);
  EXPECT_TRUE(place.list("nowhere").empty());
}

TEST_F(Places, ReplaceASmallFileInOneStep) {
  write_small(place, "label", "old");
  write_small(place, "label", "new");
  EXPECT_EQ(read_small(place, "label"), "new");
  EXPECT_EQ(place.list("").size(), 1U) << "no temporary file is left";
  EXPECT_THROW(read_small(place, "label", 2), Error) << "longer than its limit";
}

TEST_F(Places, RemoveFoldersWithoutFollowingLinks) {
  test::TempFolder other;
  test::put_file(other / "precious", "x");
  place.make_folder("gone/deep");
  put("gone/deep/file", "x");
  fs::create_directory_symlink(other.path(), folder / "gone/link");
  place.remove_folder("gone");
  EXPECT_FALSE(place.exists("gone"));
  EXPECT_TRUE(path_exists(other / "precious"));
  place.remove_folder("gone");  // need not exist
  place.remove_file("gone");
}

TEST_F(Places, DoNotOpenWhatIsNotAFile) {
  place.make_folder("folder");
  EXPECT_THROW(place.open("folder", false), Error);
  fs::create_symlink("/etc/passwd", folder / "link");
  EXPECT_THROW(place.open("link", false), Error) << "a link that somebody planted";
  place.create("link")->sync();
  EXPECT_TRUE(fs::is_regular_file(fs::symlink_status(folder / "link"))) << "it made room";
  ASSERT_EQ(::mkfifo((folder / "pipe").c_str(), 0600), 0);
  EXPECT_THROW(place.open("pipe", false), Error) << "and it does not wait for a writer";
}

TEST_F(Places, StayOnTheDiskTheyWereOpenedOn) {
  put("file", "on the disk");
  fs::rename(folder.path(), folder.path() + ".moved");
  fs::create_directory(folder.path());
  EXPECT_EQ(get("file"), "on the disk");
  put("more", "more");
  EXPECT_FALSE(path_exists(folder / "more")) << "the folder in its place is not written to";
  fs::remove_all(folder.path());
  fs::rename(folder.path() + ".moved", folder.path());
}

TEST_F(Places, ThatAreNotThereSaySo) {
  try {
    LocalPlace nowhere(folder / "nowhere");
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::kPlace);
    EXPECT_EQ(error.path(), folder / "nowhere");
  }
}

TEST_F(Places, ReadBackFindsADiskThatLies) {
  std::string content = test::noise(100'000, 2);
  put("part", content);
  Digest digest = test::stored_digest(content);
  EXPECT_NO_THROW(read_back(place, "part", content.size(), digest));
  content[5000] ^= 1;
  put("part", content);
  EXPECT_THROW(read_back(place, "part", content.size(), digest), Error);
  EXPECT_EQ(place.list("").size(), 1U) << "the second try is cleared away";
}

TEST_F(Places, ThatAreFullGoOnWithTheSameWriteOnceRoomIsMade) {
  test::FaultyPlace small(place);
  small.room_left = 10;
  int asked = 0;
  ReclaimingPlace reclaiming(small, [&] {
    if (++asked > 2) return false;
    small.room_left += 10;
    return true;
  });
  auto file = reclaiming.create("part");
  file->write(as_bytes(std::string("0123456")));
  file->write(as_bytes(std::string("abcdefg")));
  EXPECT_EQ(asked, 1);
  file->write(as_bytes(std::string("ABCDEFGHIJ")));
  EXPECT_EQ(asked, 2);
  EXPECT_EQ(reclaiming.written(), 24u);
  EXPECT_THROW(file->write(as_bytes(std::string("01234567"))), Error);
  file->sync();
  EXPECT_EQ(get("part"), "0123456abcdefgABCDEFGHIJ");
}

TEST_F(Places, LeaveAFileAsItWasWhenAWriteFindsNoRoom) {
  struct rlimit before {
  }, limit{};
  ::getrlimit(RLIMIT_FSIZE, &before);
  ::signal(SIGXFSZ, SIG_IGN);
  auto file = place.create("part");
  file->write(as_bytes(test::noise(5000, 1)));
  limit = before;
  limit.rlim_cur = 7000;
  ::setrlimit(RLIMIT_FSIZE, &limit);
  EXPECT_THROW(file->write(as_bytes(test::noise(5000, 2))), Error) << "2000 of it were written";
  ::setrlimit(RLIMIT_FSIZE, &before);
  EXPECT_EQ(get("part"), test::noise(5000, 1));
  file->write(as_bytes(test::noise(5000, 2)));
  EXPECT_EQ(get("part"), test::noise(5000, 1) + test::noise(5000, 2));
}

}  // namespace
}  // namespace kestrum
