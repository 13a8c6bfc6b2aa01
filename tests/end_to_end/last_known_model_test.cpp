// Last known content, by a model: months of random days. Folders go away and come back, become
// unreadable, are hidden by disks, leave the job; sets are full, incremental, differential; the
// index is lost, with the passphrase at hand or not, the shelf gets a new key, a new PC takes it
// over, the clock jumps, somebody reads while a run prunes. After every run, whatever was held once
// and was neither seen to be gone nor let go of has its last known content in some restore point
// that is left.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/file.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <map>
#include <random>
#include <set>

#include "kestrum/access/find_shelf.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/access/unlock.h"
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
  World(unsigned seed, bool encrypted) : random_(seed), encrypted_(encrypted) {
    for (const char* name : {"anna", "ben", "cara"}) homes_.insert(name);
    for (const std::string& name : homes_) fs::create_directories(home(name));
    for (const char* name : {"mnt", "priv", "skip", "plain", "plain/deep"}) {
      fs::create_directories(desk.source() + "/" + name);
    }
    for (const char* at : {"/mnt", "/plain/deep"}) {
      Disk disk{desk.source() + at, desk.folder / ("disk-" + std::to_string(disks_.size()))};
      fs::create_directories(disk.store);
      disk.works = ::mount("tmpfs", disk.store.c_str(), "tmpfs", 0, "size=2m") == 0;
      disks_.push_back(disk);
    }
    for (int i = 0; i < 25; ++i) edit();
    desk.become_nobody();
    desk.on_day(0);
    desk.define({"--protection", encrypted ? "passphrase" : "none", "--from",
                 desk.folder / "homes/*/docs", "--from", disks_[0].at, "--from", disks_[1].at,
                 "--keep-for", random_() % 2 == 0 ? "0 days" : "4 days", "--new-full",
                 "after 3 incrementals"});
    std::string text = edit_key(read_file(job()), "report.suspect_above", std::string("100%"));
    write_file(job(), text);
    desk.give_to_nobody();
  }
  ~World() {
    for (const Disk& disk : disks_) {
      while (::umount2(disk.at.c_str(), MNT_DETACH) == 0) {
      }
      if (disk.works) ::umount2(disk.store.c_str(), MNT_DETACH);
    }
    ::chmod((desk.source() + "/priv").c_str(), 0755);
  }

  void change_something() {
    switch (random_() % 17) {
      case 0: {  // a folder of the pattern goes away, or comes back
        std::string name = *std::next(homes_.begin(), static_cast<long>(random_() % homes_.size()));
        std::string aside = desk.folder / ("aside-" + name),
                    there = desk.folder / ("homes/" + name);
        path_exists(there) ? fs::rename(there, aside) : fs::rename(aside, there);
        break;
      }
      case 1:
      case 2: {  // another disk at the mount point
        Disk& disk = disks_[random_() % disks_.size()];
        if (!disk.works) break;
        disk.there = !disk.there;
        if (disk.there) {
          ASSERT_EQ(::mount(disk.store.c_str(), disk.at.c_str(), nullptr, MS_BIND, nullptr), 0);
        } else {
          ASSERT_EQ(::umount(disk.at.c_str()), 0);
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
      case 5:  // what this PC remembers is lost
        desk.lose_index();
        break;
      case 6:
        if (encrypted_ && random_() % 2 == 0) {
          give_passphrase(true);
          ASSERT_EQ(desk.kestrum({"passphrase", "desk", "--new-key"}).exit, 0);
          identities_.clear();
        }
        break;
      case 7:  // a new PC
        if (random_() % 2 == 0) take_over();
        break;
      case 8:
        days_ahead_ += random_() % 3 == 0 ? 400 : 20;
        break;
      default:
        for (unsigned i = random_() % 4; i > 0; --i) edit();
    }
    desk.give_to_nobody();
  }

  // Runs, and says what the run must have learnt.
  void run(int day) {
    desk.on_day(day + days_ahead_);
    give_passphrase(random_() % 3 == 0);
    std::vector<std::string> words = {"run", "desk", "--accept-empty"};
    unsigned kind = random_() % 8;
    if (kind < 3) {
      words.push_back("--kind");
      words.push_back(kind == 0 ? "full" : kind == 1 ? "differential" : "incremental");
    }
    // Somebody reads one of the sets meanwhile.
    std::vector<std::string> sets = sealed();
    std::string read = sets.empty() ? "" : sets[random_() % sets.size()];
    Fd reader(read.empty() ? -1 : ::open(read.c_str(), O_RDONLY | O_CLOEXEC));
    if (reader) {
      ASSERT_EQ(::flock(reader.get(), LOCK_SH), 0);
    }
    Ran ran = desk.kestrum(words);
    ASSERT_LE(ran.exit, 1) << ran.out << ran.err;
    if (reader) {
      EXPECT_TRUE(path_exists(read)) << "it was being read";
    }
    learn();
    if (random_() % 4 == 0) {
      Ran pruned = desk.kestrum({"prune", "desk", "--clock-is-right"});
      ASSERT_LE(pruned.exit, 1) << pruned.out << pruned.err;
    }
  }

  // Every last known content lies in a restore point that is left.
  void check() {
    Index index(":memory:");
    read_ledgers(index);
    std::set<SetId> left;
    for (const std::string& seal : sealed()) {
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
  struct Disk {
    std::string at, store;
    bool works = false, there = false;
  };

  void give_passphrase(bool given) {
    desk.environment["KESTRUM_PASSPHRASE"] = given || !encrypted_ ? "salt and sand" : "";
  }

  // The paths of all seals.
  std::vector<std::string> sealed() {
    std::vector<std::string> seals;
    for (const std::string& name : list_folder(shelf_ + "/sets")) {
      std::string seal = shelf_ + "/sets/" + name + "/seal.json";
      if (path_exists(seal)) seals.push_back(seal);
    }
    return seals;
  }

  // A PC that has only the disk and the passphrase goes on in place of this one.
  void take_over() {
    fs::remove_all(desk.folder / "home");
    give_passphrase(true);
    Ran ran = desk.kestrum({"shelf", "claim", shelf_, "--unprotected"});
    ASSERT_EQ(ran.exit, 0) << ran.out << ran.err;
  }

  // What somebody with the passphrase makes of the shelf; it need not be what this PC knows.
  void read_ledgers(Index& index) {
    MachineState machine(Home{desk.folder / "another-pc"});
    OpenShelf open = open_shelf_at(machine, shelf_);
    if (encrypted_ && identities_.empty()) {
      identities_ = unlock_shelf(open, Secret("salt and sand")).identities;
    }
    Observer observer;
    EXPECT_EQ(update_index(open.shelf, index, identities_, observer).problems,
              std::vector<std::string>{});
    if (!path_exists(desk.folder / "home/state")) return;
    Index own(desk.copy_index());
    EXPECT_EQ(check_index(open.shelf, own, identities_), std::vector<std::string>{});
  }

  std::string job() { return desk.folder / "home/jobs/desk.toml"; }
  std::string home(const std::string& name) { return desk.folder / ("homes/" + name + "/docs"); }

  std::vector<std::string> roots() {
    std::vector<std::string> roots = {desk.source()};
    for (const std::string& name : homes_) roots.push_back(home(name));
    return roots;
  }

  // Writes or removes a file somewhere.
  void edit() {
    std::vector<std::string> folders = {disks_[0].at,
                                        disks_[1].at,
                                        desk.source() + "/skip",
                                        desk.source() + "/priv",
                                        desk.source() + "/plain",
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
    const std::string priv = desk.source() + "/priv", skip = desk.source() + "/skip";
    for (auto it = known_.begin(); it != known_.end();) {
      const std::string& path = it->first;
      bool away = std::any_of(disks_.begin(), disks_.end(), [&](const Disk& disk) {
        return is_within(path, disk.at) && seen_on_disk_[path] != disk.there;
      });
      for (const std::string& name : homes_)
        away |= is_within(path, home(name)) && !path_exists(home(name));
      bool hidden = (unreadable_ && is_within(path, priv)) || away;
      bool let_go = left_out_ && is_within(path, skip);
      bool gone = !seen.contains(path);
      it = let_go || (gone && !hidden) ? known_.erase(it) : std::next(it);
    }
    for (const auto& [name, content] : seen) {
      const std::string& path = name;  // a lambda of clang takes no binding
      bool not_read =
          (unreadable_ && is_within(path, priv)) || (left_out_ && is_within(path, skip));
      if (not_read) continue;
      // What a stray file took the place of is held under its older content as well.
      known_[path] = content;
      seen_on_disk_[path] = std::any_of(disks_.begin(), disks_.end(), [&](const Disk& disk) {
        return disk.there && is_within(path, disk.at);
      });
    }
  }

  std::mt19937 random_;
  bool encrypted_;
  std::set<std::string> homes_;
  std::vector<Disk> disks_;
  std::string shelf_ = desk.shelf();
  bool unreadable_ = false, left_out_ = false;
  std::vector<Identity> identities_;
  int days_ahead_ = 0;
  unsigned written_ = 0;
  std::map<std::string, std::string> known_;  // absolute path to last known content
  std::map<std::string, bool> seen_on_disk_;  // or in the folder that it is mounted over
};

TEST(LastKnownModel, WhateverHappensNothingIsLost) {
  if (::geteuid() != 0) GTEST_SKIP() << "needs root, for files of two users and for mounts";
  if (!have_program("setpriv")) GTEST_SKIP() << "needs setpriv";
  const char* more = std::getenv("KESTRUM_MODEL_SEEDS");
  unsigned seeds = more == nullptr ? 2 : static_cast<unsigned>(std::atoi(more));
  const char* from = std::getenv("KESTRUM_MODEL_FROM");
  unsigned first = from == nullptr ? 1 : static_cast<unsigned>(std::atoi(from));
  for (unsigned seed = first; seed < first + seeds; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    World world(seed, seed % 2 == 0);
    std::size_t most = 0;
    for (int day = 1; day <= 45 && !testing::Test::HasFailure(); ++day) {
      SCOPED_TRACE("day " + std::to_string(day));
      world.change_something();
      if (testing::Test::HasFatalFailure()) break;
      world.run(day);
      world.check();
      most = std::max(most, world.known());
    }
    EXPECT_GT(most, 5U);
    world.desk.environment["KESTRUM_PASSPHRASE"] = "salt and sand";
    EXPECT_EQ(world.desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
  }
}

}  // namespace
}  // namespace kestrum::test
