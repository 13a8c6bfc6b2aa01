#include "kestrum/system/folder_watcher.h"

#include <gtest/gtest.h>

#include <filesystem>

#include "support/temp_folder.h"

namespace kestrum {
namespace {

using namespace test;
namespace fs = std::filesystem;

class Watching : public testing::Test {
 protected:
  void start(SelectionRules rules = {}) {
    selection = std::make_unique<Selection>(rules, std::vector<std::pair<dev_t, ino_t>>{});
    watcher = std::make_unique<FolderWatcher>(std::vector<std::string>{folder.path()}, *selection);
  }
  std::string in(const std::string& name) { return folder / name; }
  TempFolder folder;
  std::unique_ptr<Selection> selection;
  std::unique_ptr<FolderWatcher> watcher;
};

TEST_F(Watching, HearsOfEveryKindOfChange) {
  fs::create_directories(in("a/b"));
  put_file(in("a/b/file"), "1");
  start();
  EXPECT_EQ(watcher->watches(), 3u);
  EXPECT_FALSE(watcher->changed());
  put_file(in("a/b/file"), "2");
  EXPECT_TRUE(watcher->changed());
  EXPECT_FALSE(watcher->changed());
  fs::permissions(in("a/b/file"), fs::perms::owner_read);
  EXPECT_TRUE(watcher->changed());
  fs::rename(in("a/b/file"), in("a/file"));
  EXPECT_TRUE(watcher->changed());
  fs::remove(in("a/file"));
  EXPECT_TRUE(watcher->changed());
  fs::remove_all(in("a"));
  EXPECT_TRUE(watcher->changed());
  EXPECT_EQ(watcher->watches(), 1u);
}

TEST_F(Watching, DoesNotHearOfReading) {
  put_file(in("file"), "1");
  start();
  EXPECT_NE(fs::recursive_directory_iterator(folder.path()), fs::recursive_directory_iterator());
  read_file(in("file"));
  EXPECT_FALSE(watcher->changed());
}

TEST_F(Watching, DoesNotHearOfTheSnapshotsOfRuns) {
  start();
  fs::create_directories(in(".kestrum-snapshot-1/file"));
  fs::remove_all(in(".kestrum-snapshot-1"));
  EXPECT_FALSE(watcher->changed());
}

TEST_F(Watching, FollowsFoldersThatComeAndMove) {
  start();
  fs::create_directories(in("new/deep/er"));
  EXPECT_TRUE(watcher->changed());
  put_file(in("new/deep/er/file"), "x");
  EXPECT_TRUE(watcher->changed());
  fs::rename(in("new/deep"), in("moved"));
  EXPECT_TRUE(watcher->changed());
  put_file(in("moved/er/file"), "y");
  EXPECT_TRUE(watcher->changed());
}

TEST_F(Watching, LeavesOutWhatTheRulesLeaveOut) {
  SelectionRules rules;
  rules.leave_out = {"*.bak", "drafts"};
  rules.only = {"documents"};
  fs::create_directories(in("drafts"));
  fs::create_directories(in(".cache/deep"));
  start(rules);
  EXPECT_EQ(watcher->watches(), 1u);
  put_file(in("drafts/letter.odt"), "x");
  put_file(in(".cache/deep/letter.odt"), "x");
  put_file(in("letter.bak"), "x");
  put_file(in("song.mp3"), "x");
  fs::create_directories(in("drafts/more"));
  EXPECT_FALSE(watcher->changed());
  put_file(in("letter.odt"), "x");
  EXPECT_TRUE(watcher->changed());
  // A folder that is moved out of what is left out counts from then on.
  fs::rename(in("drafts"), in("letters"));
  EXPECT_TRUE(watcher->changed());
  put_file(in("letters/letter.odt"), "y");
  EXPECT_TRUE(watcher->changed());
}

TEST_F(Watching, AnOverflowMeansEverythingIsLookedAtAgain) {
  start();
  // More events than the kernel keeps (fs.inotify.max_queued_events, usually 16384).
  std::size_t limit = std::stoul(read_file("/proc/sys/fs/inotify/max_queued_events"));
  if (limit > 100'000) GTEST_SKIP() << "this kernel keeps " << limit << " events";
  fs::create_directories(in("early"));
  for (std::size_t i = 0; i < limit / 2 + 10; ++i) {
    fs::permissions(folder.path(), i % 2 == 0 ? fs::perms(0700) : fs::perms(0750));
    fs::permissions(in("early"), i % 2 == 0 ? fs::perms(0700) : fs::perms(0750));
  }
  fs::create_directories(in("late"));
  EXPECT_TRUE(watcher->changed());
  EXPECT_FALSE(watcher->changed());
  put_file(in("late/file"), "x");
  EXPECT_TRUE(watcher->changed()) << "a folder whose coming was lost is watched";
}

}  // namespace
}  // namespace kestrum
