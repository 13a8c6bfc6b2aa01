#include "kestrum/plan/walk_ahead.h"

#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>
#include <iterator>

#include "support/temp_folder.h"

namespace kestrum {
namespace {

using test::put_file;

// Many more events than are taken before there is a thread.
class WalksAhead : public testing::Test {
 protected:
  static constexpr int kFolders = 60, kFiles = 70;
  void SetUp() override {
    for (int at = 0; at < kFolders; ++at) {
      std::filesystem::create_directories(top + "/" + std::to_string(at));
      for (int number = 0; number < kFiles; ++number) {
        std::string name = std::to_string(at) + "/" + std::to_string(number);
        put_file(top + "/" + name, std::string(static_cast<std::size_t>(number) + 1, 'x') + name);
      }
    }
  }
  test::TempFolder folder;
  std::string top = folder / "top";
  Selection selection{{}, {}};
};

TEST_F(WalksAhead, FindsWhatAWalkFindsInTheSameOrder) {
  Walk plain({top}, selection), walk({top}, selection);
  WalkAhead ahead(walk, [](const WalkEvent&) { return true; });
  WalkEvent expected, event;
  int read_ahead = 0, events = 0;
  while (plain.next(expected)) {
    ++events;
    ASSERT_TRUE(ahead.next(event));
    ASSERT_EQ(event.path, expected.path);
    ASSERT_EQ(event.kind, expected.kind);
    ASSERT_EQ(event.st.st_ino, expected.st.st_ino);
    if (!event.ahead) continue;
    ++read_ahead;
    ASSERT_EQ(as_text(event.ahead->content), read_file("/" + event.path));
    ASSERT_EQ(event.ahead->st.st_ino, event.st.st_ino);
    ASSERT_TRUE(event.ahead->unsure) << "it was made a moment ago";
  }
  EXPECT_FALSE(ahead.next(event));
  EXPECT_FALSE(ahead.next(event));
  EXPECT_GT(events, kFolders * kFiles);
  EXPECT_GT(read_ahead, 1000);
}

TEST_F(WalksAhead, CanBeLeftInTheMiddle) {
  for (int taken : {0, 100, 2500, 4000}) {
    Walk walk({top}, selection);
    WalkAhead ahead(walk, {});
    WalkEvent event;
    for (int number = 0; number < taken; ++number) ASSERT_TRUE(ahead.next(event));
  }
}

// A folder is held open as long as an event in it waits, and there are only so many descriptors.
TEST_F(WalksAhead, HoldsFewFoldersOpenHoweverFewFilesEachHas) {
  constexpr std::ptrdiff_t kMost = 500;
  for (int at = 0; at < 1500; ++at) put_file(top + "/single/" + std::to_string(at) + "/only", "x");
  Walk walk({top + "/single"}, selection);
  WalkAhead ahead(walk, {});
  WalkEvent event;
  std::ptrdiff_t most = 0;
  for (int number = 0; ahead.next(event); ++number) {
    if (number % 250 != 0) continue;
    ::usleep(20'000);  // it may go ahead as far as it likes
    std::filesystem::directory_iterator open("/proc/self/fd"), end;
    most = std::max(most, std::distance(open, end));
  }
  EXPECT_LE(most, kMost);
}

TEST(WalkEvent, ThatIsUsedAgainIsAsANewOne) {
  Selection selection({}, {});
  test::TempFolder folder;
  put_file(folder / "top/file", "text");
  Walk walk({folder / "top"}, selection);
  WalkEvent used, fresh;
  while (walk.next(used)) fresh = used;
  ASSERT_TRUE(fresh.at.open_file());
  used.ahead = std::make_shared<FileAhead>();
  used.kind = WalkEvent::Kind::kPassage;
  used.rule = Rule::kLitter;
  used.error = used.listing_error = EIO;
  used.is_root = used.empty = used.mount = used.contents_left_out = true;
  used.clear();
  fresh = WalkEvent();
  EXPECT_EQ(used.path, "");
  EXPECT_EQ(used.kind, fresh.kind);
  EXPECT_EQ(used.rule, fresh.rule);
  EXPECT_EQ(used.ahead, nullptr);
  EXPECT_FALSE(used.at.open_file());
  EXPECT_EQ(used.error + used.listing_error, 0);
  EXPECT_FALSE(used.is_root || used.empty || used.mount || used.contents_left_out);
  EXPECT_EQ(used.st.st_ino + used.st.st_mode + used.st.st_size, 0U);
}

// What was found stays open to whoever holds it, whatever takes its folder's place.
TEST_F(WalksAhead, WhatItFoundIsReadWhereItWasFound) {
  Walk walk({top}, selection);
  WalkEvent event, found;
  while (walk.next(event)) {
    if (event.path.ends_with("/7/7")) found = event;
  }
  std::filesystem::rename(top + "/7", top + "/away");
  std::filesystem::create_symlink("/etc", top + "/7");
  Fd fd = found.at.open_file();
  struct stat st {};
  ASSERT_TRUE(fd);
  ASSERT_EQ(::fstat(fd.get(), &st), 0);
  EXPECT_EQ(st.st_ino, found.st.st_ino);
}

class ReadAheadOf : public testing::Test {
 protected:
  // What is read ahead of the only thing in the folder.
  std::shared_ptr<const FileAhead> read() {
    Selection selection({}, {});
    Walk walk({folder / "top"}, selection);
    WalkEvent event;
    while (walk.next(event)) {
      if (!S_ISDIR(event.st.st_mode)) return read_ahead(event, unsure);
    }
    ADD_FAILURE() << "nothing there";
    return nullptr;
  }
  void SetUp() override { std::filesystem::create_directory(folder / "top"); }
  test::TempFolder folder;
  std::string file = folder / "top/file";
  UnsureFiles unsure;
};

TEST_F(ReadAheadOf, ASmallFileIsItsContent) {
  put_file(file, "words");
  auto ahead = read();
  ASSERT_TRUE(ahead);
  EXPECT_EQ(as_text(ahead->content), "words");
  EXPECT_EQ(ahead->st.st_size, 5);
}

TEST_F(ReadAheadOf, NothingElseIsRead) {
  put_file(file, "");
  EXPECT_FALSE(read()) << "empty";
  put_file(file, std::string(1 << 20, 'x'));
  EXPECT_FALSE(read()) << "large";
  put_file(file, "x");
  ASSERT_EQ(::truncate(file.c_str(), 100'000), 0);
  EXPECT_FALSE(read()) << "holes";
  ::unlink(file.c_str());
  ASSERT_EQ(::mkfifo(file.c_str(), 0600), 0);
  EXPECT_FALSE(read()) << "a FIFO";
  ::unlink(file.c_str());
  std::filesystem::create_symlink("/etc/passwd", file);
  EXPECT_FALSE(read()) << "a link";
}

}  // namespace
}  // namespace kestrum
