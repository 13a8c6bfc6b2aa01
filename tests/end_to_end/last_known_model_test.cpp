// Last known content, by a model: months of random days. Folders go away and come back, become
// unreadable, are hidden by disks, leave the job; sets are full, incremental, differential. After
// every run, whatever was held once and was neither seen to be gone nor let go of has its last
// known content in some restore point that is left.
#include <gtest/gtest.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <map>
#include <random>
#include <set>

#include "kestrum/base/file.h"
#include "kestrum/job/edit_key.h"
#include "kestrum/machine/index.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class World {
 public:
  explicit World(unsigned seed) : random_(seed) {
    for (const char* name : {"anna", "ben", "cara"}) homes_.insert(name);
    for (const std::string& name : homes_) fs::create_directories(home(name));
    for (const char* name : {"mnt", "priv", "skip", "plain"}) {
      fs::create_directories(desk.source() + "/" + name);
    }
    fs::create_directories(disk());
    mounted_ = ::mount("tmpfs", disk().c_str(), "tmpfs", 0, "size=2m") == 0;
    for (int i = 0; i < 25; ++i) edit();
    desk.become_nobody();
    desk.on_day(0);
    desk.define({"--protection", "none", "--from", desk.folder / "homes/*/docs", "--from",
                 desk.source() + "/mnt", "--keep-for", random_() % 2 == 0 ? "0 days" : "4 days",
                 "--new-full", "after 3 incrementals"});
    std::string text = edit_key(read_file(job()), "report.suspect_above", std::string("100%"));
    write_file(job(), text);
    desk.give_to_nobody();
  }
  ~World() {
    while (::umount2((desk.source() + "/mnt").c_str(), MNT_DETACH) == 0) {
    }
    if (mounted_) ::umount2(disk().c_str(), MNT_DETACH);
    ::chmod((desk.source() + "/priv").c_str(), 0755);
  }

  void change_something() {
    switch (random_() % 12) {
      case 0: {  // a folder of the pattern goes away, or comes back
        std::string name = *std::next(homes_.begin(), static_cast<long>(random_() % homes_.size()));
        std::string aside = desk.folder / ("aside-" + name),
                    there = desk.folder / ("homes/" + name);
        path_exists(there) ? fs::rename(there, aside) : fs::rename(aside, there);
        break;
      }
      case 1:
      case 2: {  // another disk at the mount point
        std::string at = desk.source() + "/mnt";
        if (!mounted_) break;
        disk_is_there_ = !disk_is_there_;
        if (disk_is_there_) {
          ASSERT_EQ(::mount(disk().c_str(), at.c_str(), nullptr, MS_BIND, nullptr), 0);
        } else {
          ASSERT_EQ(::umount(at.c_str()), 0);
        }
        break;
      }
      case 3:  // a folder that its owner cannot read
        unreadable_ = !unreadable_;
        ::chmod((desk.source() + "/priv").c_str(), unreadable_ ? 0 : 0755);
        break;
      case 4: {  // a rule
        left_out_ = !left_out_;
        std::string rules = left_out_ ? "skip" : "none-of-these";
        write_file(job(),
                   edit_key(read_file(job()), "source.leave_out", std::vector<std::string>{rules}));
        break;
      }
      default:
        for (unsigned i = random_() % 4; i > 0; --i) edit();
    }
    desk.give_to_nobody();
  }

  // Runs, and says what the run must have learnt.
  void run(int day) {
    desk.on_day(day);
    std::vector<std::string> words = {"run", "desk", "--accept-empty"};
    unsigned kind = random_() % 8;
    if (kind < 3) {
      words.push_back("--kind");
      words.push_back(kind == 0 ? "full" : kind == 1 ? "differential" : "incremental");
    }
    Ran ran = desk.kestrum(words);
    ASSERT_LE(ran.exit, 1) << ran.out << ran.err;
    learn();
  }

  // Every last known content lies in a restore point that is left.
  void check() {
    Index index(desk.copy_index());
    std::set<SetId> left;
    for (const std::string& name : list_folder(desk.shelf() + "/sets")) {
      std::string seal = desk.shelf() + "/sets/" + name + "/seal.json";
      if (path_exists(seal))
        left.insert(*SetId::parse(Json::parse(read_file(seal))["set"].get<std::string>()));
    }
    for (const auto& [path, content] : known_) {
      Digest digest = digest_of(as_bytes(content));
      bool held = false;
      for (const PathVersion& version : index.history_of(path.substr(1))) {
        if (version.entry.line.digest != digest) continue;
        held |= std::any_of(left.begin(), left.end(), [&](SetId set) {
          return !(set < version.first) && (!version.until || set < *version.until);
        });
      }
      EXPECT_TRUE(held) << path << " is lost";
    }
  }

  std::size_t known() const { return known_.size(); }
  Desk desk;

 private:
  std::string disk() { return desk.folder / "other-disk"; }
  std::string job() { return desk.folder / "home/jobs/desk.toml"; }
  std::string home(const std::string& name) { return desk.folder / ("homes/" + name + "/docs"); }

  std::vector<std::string> roots() {
    std::vector<std::string> roots = {desk.source()};
    for (const std::string& name : homes_) roots.push_back(home(name));
    return roots;
  }

  // Writes or removes a file somewhere.
  void edit() {
    std::vector<std::string> folders = {desk.source() + "/mnt", desk.source() + "/skip",
                                        desk.source() + "/priv", desk.source() + "/plain",
                                        desk.source() + "/plain/sub"};
    for (const std::string& name : homes_) {
      if (path_exists(home(name))) folders.push_back(home(name));
    }
    std::string path =
        folders[random_() % folders.size()] + "/file" + std::to_string(random_() % 4);
    if (random_() % 3 == 0) {
      fs::remove(path);
    } else {
      put_file(path, "content " + std::to_string(++written_));
    }
  }

  // The model of what a run sees: by path, and whether its folder tells at all.
  void learn() {
    std::map<std::string, std::string> seen;
    for (const std::string& root : roots()) {
      if (!path_exists(root)) continue;
      for (const auto& entry : fs::recursive_directory_iterator(root)) {
        if (entry.is_regular_file()) seen[entry.path()] = read_file(entry.path());
      }
    }
    const std::string priv = desk.source() + "/priv", skip = desk.source() + "/skip",
                      mnt = desk.source() + "/mnt";
    // The mount point is taken for what it was when it first held something.
    bool anything = std::any_of(known_.begin(), known_.end(),
                                [&](const auto& item) { return is_within(item.first, mnt); });
    if (!anything) mount_known_ = disk_is_there_;
    bool another_disk = mount_known_ != disk_is_there_;
    for (auto it = known_.begin(); it != known_.end();) {
      const std::string& path = it->first;
      bool away = false;
      for (const std::string& name : homes_)
        away |= is_within(path, home(name)) && !path_exists(home(name));
      bool hidden =
          (unreadable_ && is_within(path, priv)) || (another_disk && is_within(path, mnt)) || away;
      bool let_go = left_out_ && is_within(path, skip);
      bool gone = !seen.contains(path);
      it = let_go || (gone && !hidden) ? known_.erase(it) : std::next(it);
    }
    for (const auto& [path, content] : seen) {
      bool not_read =
          (unreadable_ && is_within(path, priv)) || (left_out_ && is_within(path, skip));
      if (not_read) continue;
      // What a stray file took the place of is held under its older content as well.
      known_[path] = content;
    }
  }

  std::mt19937 random_;
  std::set<std::string> homes_;
  bool mounted_ = false, disk_is_there_ = false, unreadable_ = false, left_out_ = false;
  bool mount_known_ = false;
  unsigned written_ = 0;
  std::map<std::string, std::string> known_;  // absolute path to last known content
};

TEST(LastKnownModel, WhateverHappensNothingIsLost) {
  if (::geteuid() != 0) GTEST_SKIP() << "needs root, for files of two users and for mounts";
  if (!have_program("setpriv")) GTEST_SKIP() << "needs setpriv";
  const char* more = std::getenv("KESTRUM_MODEL_SEEDS");
  unsigned seeds = more == nullptr ? 2 : static_cast<unsigned>(std::atoi(more));
  for (unsigned seed = 1; seed <= seeds; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    World world(seed);
    std::size_t most = 0;
    for (int day = 1; day <= 45 && !testing::Test::HasFailure(); ++day) {
      SCOPED_TRACE("day " + std::to_string(day));
      world.change_something();
      world.run(day);
      world.check();
      most = std::max(most, world.known());
    }
    EXPECT_GT(most, 5U);
    EXPECT_EQ(world.desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
  }
}

}  // namespace
}  // namespace kestrum::test
