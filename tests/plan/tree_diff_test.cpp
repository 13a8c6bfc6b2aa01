// What became of each path since it was known: by examples, and by a model over random trees.
#include "kestrum/plan/tree_diff.h"

#include <gtest/gtest.h>
#include <sys/fsuid.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <random>
#include <set>

#include "kestrum/base/file.h"
#include "kestrum/place/mounts.h"
#include "kestrum/select/path_order.h"
#include "support/temp_folder.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

const char* name_of(PathState state) {
  switch (state) {
    case PathState::kThere:
      return "there";
    case PathState::kGone:
      return "gone";
    case PathState::kAbsent:
      return "absent";
    case PathState::kLeftOut:
      return "left out";
  }
  return "";
}

class TreeDiffs : public testing::Test {
 protected:
  TreeDiffs() {
    fs::create_directories(top());
    // Of the mount points above top() the last, as the ledger counts them.
    for (const std::string& point : mount_points()) {
      if (point == "/" || !is_within(stored(""), point.substr(1))) continue;
      below_ = std::max(below_, static_cast<std::uint16_t>(components_of(point.substr(1))));
    }
  }
  ~TreeDiffs() override {
    std::error_code ignored;
    fs::permissions(top() + "/closed", fs::perms::owner_all, ignored);
  }

  std::string top() const { return folder_ / "top"; }
  std::string stored(const std::string& name) const {
    return (name.empty() ? top() : top() + "/" + name).substr(1);
  }
  // `disk` is the mount point, below top(), that it was seen on.
  void know(const std::string& name, EntryType type = EntryType::kFile,
            const std::string& disk = "") {
    IndexEntry entry;
    entry.line.disk =
        disk.empty() ? below_ : static_cast<std::uint16_t>(components_of(stored(disk)));
    entry.line.mount = type == EntryType::kFolder && name == mount_point_;
    entry.line.entry.path = stored(name);
    entry.line.entry.type = type;
    known_.push_back(entry);
  }

  // "name: state", with "+" before what was known, in the order of the answers.
  std::vector<std::string> diff(const SelectionRules& rules = {}, const LostFolders& lost = {},
                                bool without_roots = false) {
    std::sort(known_.begin(), known_.end(), [](const IndexEntry& a, const IndexEntry& b) {
      return compare_paths(a.line.entry.path, b.line.entry.path) < 0;
    });
    Selection selection(rules, {});
    Walk walk(without_roots ? std::vector<std::string>{} : std::vector<std::string>{top()},
              selection);
    std::size_t at = 0;
    TreeDiff tree(walk, lost, [&](IndexEntry& entry) {
      if (at == known_.size()) return false;
      entry = known_[at++];
      return true;
    });
    std::vector<std::string> found;
    problems_.clear();
    PathDiff answer;
    std::string last;
    while (tree.next(answer)) {
      if (!is_within(answer.path(), stored(""))) continue;  // passages above
      if (!found.empty()) {
        EXPECT_LT(compare_paths(last, answer.path()), 0) << "each path once, in path order";
      }
      last = answer.path();
      std::string name =
          answer.path() == stored("") ? "." : answer.path().substr(stored("").size() + 1);
      found.push_back((answer.old != nullptr ? "+" : "") + name + ": " + name_of(answer.state));
      if (!answer.problem.empty())
        problems_.push_back(answer.problem_path().substr(stored("").size()) + ": " +
                            answer.problem);
      if (answer.old != nullptr) {
        EXPECT_EQ(answer.old->line.entry.path, answer.path());
      }
      if (answer.event != nullptr) {
        EXPECT_EQ(answer.event->path, answer.path());
      }
    }
    EXPECT_EQ(at, known_.size()) << "all that was known is answered for";
    return found;
  }

  TempFolder folder_;
  std::vector<IndexEntry> known_;
  std::vector<std::string> problems_;
  std::string mount_point_ = "disk";  // known as such
  std::uint16_t below_ = 0;           // the disk that top() lies on
};

using Lines = std::vector<std::string>;

TEST_F(TreeDiffs, TellWhatIsNewThereAndGone) {
  put_file(top() + "/b", "");
  put_file(top() + "/new", "");
  for (const char* name : {"a", "b", "d/inside", "z"}) know(name);
  know("d", EntryType::kFolder);
  know("", EntryType::kFolder);
  EXPECT_EQ(diff(), (Lines{"+.: there", "+a: gone", "+b: there", "+d: gone", "+d/inside: gone",
                           "new: there", "+z: gone"}));
}

TEST_F(TreeDiffs, WhatARuleLeavesOutIsNotGone) {
  put_file(top() + "/cache/x", "");
  put_file(top() + "/a.tmp", "");
  know("a.tmp");
  know("b.tmp");  // and is not there any more
  know("cache/x");
  SelectionRules rules;
  rules.leave_out = {"*.tmp", "cache"};
  EXPECT_EQ(diff(rules), (Lines{".: there", "+a.tmp: left out", "+b.tmp: gone", "cache: left out",
                                "+cache/x: left out"}));
}

TEST_F(TreeDiffs, AFolderThatCannotBeReadHidesWhatItHolds) {
  put_file(top() + "/closed/x", "");
  know("closed", EntryType::kFolder);
  know("closed/x");
  know("closed/y");
  fs::permissions(top() + "/closed", fs::perms::none);
  fs::permissions(folder_.path(), fs::perms(0755));
  int before = ::setfsuid(65534);  // root reads every folder; this thread is nobody for a while
  Lines found = diff();
  ::setfsuid(static_cast<uid_t>(before));
  EXPECT_EQ(found, (Lines{".: there", "+closed: there", "+closed/x: absent", "+closed/y: absent"}));
  ASSERT_EQ(problems_.size(), 1u);
  EXPECT_EQ(problems_[0].find("/closed: this folder cannot be read"), 0u);
}

TEST_F(TreeDiffs, AFolderWhereADiskWasMountedHidesWhatTheDiskHeld) {
  fs::create_directories(top() + "/disk");
  know("disk", EntryType::kFolder);
  know("disk/x", EntryType::kFile, "disk");
  know("disk/y", EntryType::kFile, "disk");
  EXPECT_EQ(diff(), (Lines{".: there", "+disk: there", "+disk/x: absent", "+disk/y: absent"}));
  EXPECT_EQ(problems_, (Lines{"/disk: a disk was mounted here and is not now"})) << "told once";
}

TEST_F(TreeDiffs, DisksWithinDisksAreToldOnceEach) {
  fs::create_directories(top() + "/disk/inner");
  know("disk", EntryType::kFolder);
  know("disk/a", EntryType::kFile, "disk");
  know("disk/inner", EntryType::kFolder, "disk");
  know("disk/inner/x", EntryType::kFile, "disk/inner");
  know("disk/z", EntryType::kFile, "disk");
  EXPECT_EQ(diff(), (Lines{".: there", "+disk: there", "+disk/a: absent", "+disk/inner: there",
                           "+disk/inner/x: absent", "+disk/z: absent"}));
  EXPECT_EQ(problems_, (Lines{"/disk: a disk was mounted here and is not now",
                              "/disk/inner: a disk was mounted here and is not now"}));
}

TEST_F(TreeDiffs, AMountPointThatWentWithItsDiskTakesNothingAlong) {
  know("disk", EntryType::kFolder);
  know("disk/sub", EntryType::kFolder, "disk");
  know("disk/sub/x", EntryType::kFile, "disk");
  EXPECT_EQ(diff(),
            (Lines{".: there", "+disk: absent", "+disk/sub: absent", "+disk/sub/x: absent"}));
  mount_point_ = "";  // when it was last seen, nothing was mounted
  known_.clear();
  know("disk", EntryType::kFolder);
  know("disk/sub", EntryType::kFolder, "disk");
  EXPECT_EQ(diff(), (Lines{".: there", "+disk: absent", "+disk/sub: absent"}));
  EXPECT_EQ(diff({}, {{}, {top() + "/disk"}}),
            (Lines{".: there", "+disk: gone", "+disk/sub: gone"}));
}

TEST_F(TreeDiffs, WhatLiesOnADiskAndInTheFolderBelowItAreTwoThings) {
  put_file(top() + "/disk/stray", "");
  put_file(top() + "/disk/sub/stray", "");
  know("disk", EntryType::kFolder);
  for (const char* name : {"disk/stray", "disk/sub/y", "disk/x"}) {
    know(name, EntryType::kFile, "disk");
  }
  know("disk/old stray");
  know("disk/sub", EntryType::kFolder, "disk");
  EXPECT_EQ(diff(), (Lines{".: there", "+disk: there", "+disk/old stray: gone",
                           "+disk/stray: there", "+disk/sub: there", "disk/sub/stray: there",
                           "+disk/sub/y: absent", "+disk/x: absent"}));
  EXPECT_EQ(
      diff({}, {{}, {top() + "/disk"}}),
      (Lines{".: there", "+disk: there", "+disk/old stray: gone", "+disk/stray: there",
             "+disk/sub: there", "disk/sub/stray: there", "+disk/sub/y: gone", "+disk/x: gone"}))
      << "somebody let go of it";
}

TEST_F(TreeDiffs, ADiskThatHeldNothingIsNotMissed) {
  put_file(top() + "/disk/new", "");
  know("disk", EntryType::kFolder);
  know("z");
  EXPECT_EQ(diff(), (Lines{".: there", "+disk: there", "disk/new: there", "+z: gone"}));
  EXPECT_TRUE(problems_.empty());
}

TEST_F(TreeDiffs, ADiskMountedOverAFolderHidesWhatItHeld) {
  fs::create_directories(top() + "/d");
  if (::geteuid() != 0 || ::mount("tmpfs", (top() + "/d").c_str(), "tmpfs", 0, "size=1m") != 0) {
    GTEST_SKIP() << "needs root, to mount a disk";
  }
  put_file(top() + "/d/other", "");
  know("d", EntryType::kFolder);
  know("d/deleted", EntryType::kFile, "d");
  know("d/x");
  Lines kept = diff();
  SelectionRules crossing;
  crossing.other_filesystems = true;
  Lines crossed = diff(crossing);
  Lines let_go = diff(crossing, {{}, {top() + "/d"}});
  ::umount((top() + "/d").c_str());
  EXPECT_EQ(kept, (Lines{".: there", "+d: there", "+d/deleted: left out", "+d/x: absent"}));
  EXPECT_EQ(crossed,
            (Lines{".: there", "+d: there", "+d/deleted: gone", "d/other: there", "+d/x: absent"}));
  EXPECT_EQ(let_go,
            (Lines{".: there", "+d: there", "+d/deleted: gone", "d/other: there", "+d/x: gone"}));
}

TEST_F(TreeDiffs, RulesAboutNewFilesDoNotHitWhatIsHeld) {
  put_file(top() + "/grown", std::string(5000, 'x'));
  put_file(top() + "/large", std::string(5000, 'x'));
  know("grown");
  SelectionRules rules;
  rules.smaller_than = 4096;
  EXPECT_EQ(diff(rules), (Lines{".: there", "+grown: there", "large: left out"}));
}

TEST_F(TreeDiffs, ARootThatIsNotThereHidesAllOfIt) {
  fs::remove(top());
  know("x");
  EXPECT_EQ(diff(), (Lines{".: absent", "+x: absent"}));
  EXPECT_EQ(problems_, (Lines{": this folder is not there"}));
  EXPECT_EQ(diff({}, {{top()}, {}}, true), (Lines{"+x: absent"})) << "a pattern matched it before";
  EXPECT_EQ(diff({}, {{}, {top()}}, true), (Lines{"+x: gone"})) << "somebody let go of it";
  EXPECT_EQ(diff({}, {}, true), (Lines{"+x: left out"})) << "no folder of the job holds it";
}

TEST_F(TreeDiffs, AFileInThePlaceOfAFolderLeavesNothingBelowIt) {
  put_file(top() + "/d", "");
  know("d", EntryType::kFolder);
  know("d/x");
  EXPECT_EQ(diff(), (Lines{".: there", "+d: there", "+d/x: gone"}));
}

// Random trees of files and folders: what was known and is not found is gone, all else is there.
TEST_F(TreeDiffs, AgreeWithAModel) {
  std::mt19937 random(20271);
  const std::vector<std::string> names = {"a", "a b", "a-b",  "a.b",  "a0",
                                          "b", "B",   "\x01", "z\xff"};
  for (int round = 0; round < 60; ++round) {
    fs::remove_all(top());
    fs::create_directories(top());
    known_.clear();
    std::set<std::string> there, known;
    auto any = [&] {
      std::string path = names[random() % names.size()];
      for (unsigned depth = random() % 3; depth > 0; --depth) {
        path += "/" + names[random() % names.size()];
      }
      return path;
    };
    for (int i = 0; i < 12; ++i) {
      std::string path = any();
      std::error_code in_the_way;
      fs::create_directories(parent_of(top() + "/" + path), in_the_way);
      if (!in_the_way && !path_exists(top() + "/" + path)) put_file(top() + "/" + path, "");
      known.insert(any());
    }
    for (const auto& entry : fs::recursive_directory_iterator(top())) {
      there.insert(entry.path().string().substr(top().size() + 1));
    }
    for (const auto& path : known) know(path);
    std::set<std::string> expected = {".: there"};
    for (const auto& path : there)
      expected.insert((known.contains(path) ? "+" : "") + path + ": there");
    for (const auto& path : known) {
      if (!there.contains(path)) expected.insert("+" + path + ": gone");
    }
    Lines found = diff();
    EXPECT_EQ(std::set<std::string>(found.begin(), found.end()), expected) << "round " << round;
  }
}

}  // namespace
}  // namespace kestrum::test
