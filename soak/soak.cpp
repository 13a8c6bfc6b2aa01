// For as long as one likes: random edits, runs, kills, full disks, pruning, disks in rotation,
// damage and lost indexes, against a model that remembers the whole tree at every restore point.
// Any difference ends it with the seed.
//
// Even seeds have a passphrase, odd ones none.
//
//   KESTRUM_SOAK_MINUTES (1)   KESTRUM_SOAK_SEED (random)
#include <gtest/gtest.h>
#include <signal.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <map>
#include <memory>
#include <random>

#include "history.h"
#include "kestrum/access/open_shelf.h"
#include "kestrum/access/unlock.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/file.h"
#include "kestrum/job/edit_key.h"
#include "kestrum/job/job_store.h"
#include "support/engine_desk.h"
#include "support/large_files.h"
#include "support/program.h"
#include "support/small_disk.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

constexpr unsigned kDiskSize = 72, kOwnSize = 48;  // MB

class Soak : public testing::Test {
 protected:
  using Point = std::pair<std::string, std::string>;  // disk, set

  void SetUp() override {
    // The PC's own disk, as far as Kestrum's state is concerned.
    fs::create_directory(desk.folder / "home");
    own_disk =
        std::make_unique<SmallDisk>(desk.folder, desk.folder / "home", kOwnSize, DiskKind::kTmpfs);
    seed = history_seed();
    std::printf("seed %llu\n", static_cast<unsigned long long>(seed));
    random.seed(seed);
    fs::create_directory(desk.source() + "/tree");
    tree = std::make_unique<TreeMaker>(desk.source() + "/tree", static_cast<unsigned>(seed));
    tree->grow(120);
    large = std::make_unique<LargeFiles>(desk.source() + "/large", static_cast<unsigned>(seed),
                                         LargeFiles::Limits{3, 2'500'000});
    // A secret that is given says that a protected shelf is meant.
    if (seed % 2 != 0) desk.environment["KESTRUM_PASSPHRASE"] = "";
    std::vector<std::string> words = {
        "job",         "new",         "desk",          "--from",
        desk.source(), "--to",        place("blue"),   "--to",
        place("red"),  "--same-disk", "--protection",  seed % 2 == 0 ? "passphrase" : "none",
        "--part-size", "700 kB",      "--new-full",    "after 5 incrementals",
        "--keep-for",  "0 days",      "--keep-chains", "2"};
    for (const char* disk : {"blue", "red"}) {
      fs::create_directory(desk.folder / disk);
      // Of the two, one can be pulled out of a run, where the machine knows such disks.
      bool pulls = std::string(disk) == "red";
      disks.push_back(std::make_unique<SmallDisk>(desk.folder, desk.folder / disk, kDiskSize,
                                                  pulls ? DiskKind::kExfat : DiskKind::kAny));
      if (pulls && !disks.back()->mounted()) {
        disks.back() = std::make_unique<SmallDisk>(desk.folder, desk.folder / disk, kDiskSize);
      }
      fs::create_directories(place(disk));
    }
    ASSERT_EQ(desk.kestrum(words).exit, 0);
    desk.kestrum({"shelf", "start", "desk", "--at", place("blue"), "--same-disk"});
    desk.kestrum({"shelf", "start", "desk", "--at", place("red"), "--same-disk"});
    std::string job = desk.folder / "home/jobs/desk.toml";
    std::string text = edit_key(read_file(job), "report.suspect_above", std::string("100%"));
    write_file(job, edit_key(text, "source.stretches_above", std::string("1 MB")));
  }
  unsigned below(unsigned limit) { return static_cast<unsigned>(random() % limit); }
  std::string place(const std::string& disk) { return desk.folder / (disk + "/backups"); }
  std::string shelf(const std::string& disk) { return place(disk) + "/test-pc/desk"; }
  bool plugged_in(const std::string& disk) { return path_exists(place(disk)); }
  std::string some_disk() { return below(2) == 0 ? "blue" : "red"; }

  void edit() {
    tree->change(1 + static_cast<int>(below(8)));
    if (below(2) == 0) large->edit();
    std::string big = desk.source() + "/big-" + std::to_string(below(8)) + ".bin";
    put_file(big, noise(200'000 + below(1'500'000), static_cast<unsigned>(random())));
    ++counts["edits"];
  }
  void rotate() {
    std::string disk = some_disk(), away = place(disk) + ".away";
    if (plugged_in(disk)) {
      fs::rename(place(disk), away);
    } else {
      fs::rename(away, place(disk));
    }
    ++counts["rotations"];
  }
  void fill_or_empty() {
    std::string file = desk.folder / (some_disk() + "/of-another-program");
    if (path_exists(file)) {
      fs::remove(file);
    } else {
      put_file(file, noise(5'000'000 + below(25'000'000), 1));
    }
    ++counts["other programs' files"];
  }
  void lose_index() {
    for (const auto& name : list_folder(desk.folder / "home/state")) {
      std::string index = desk.folder / ("home/state/" + name + "/index.sqlite");
      if (path_exists(index)) fs::remove(index);
    }
    ++counts["lost indexes"];
  }

  // A set that was not there before the attempt holds what the source holds now.
  void attempt(bool killed) {
    Tree now = tree_of(desk.source());
    std::vector<std::string> argv = {KESTRUM_PROGRAM, "run", "desk", "--accept-empty"};
    if (below(12) == 0) argv.insert(argv.end(), {"--kind", "full"});
    std::string filler = desk.folder / "home/of-another-program";
    bool own_full = !killed && own_disk->mounted() && below(5) == 0;
    if (own_full) {
      std::uint64_t room = fs::space(desk.folder / "home").available, left = below(600'000);
      put_file(filler, std::string(room - std::min<std::uint64_t>(room, left), 'x'));
    }
    Background run(argv, desk.environment);
    bool pulled = killed && disks[1]->can_be_pulled() && below(4) == 0;
    if (killed) {
      ::usleep(below(250'000));
      if (pulled) {
        disks[1]->pull();
      } else {
        run.signal(below(3) == 0 ? SIGTERM : SIGKILL);
      }
    }
    Ran ran = run.wait();
    if (own_full) fs::remove(filler);
    if (pulled) {
      ASSERT_TRUE(disks[1]->plug_in_again()) << disks[1]->why_not();
    }
    bool known_end =
        ran.exit == 0 || ran.exit == 1 || ran.exit == 5 || ran.exit == 6 ||
        (killed && (ran.exit == 130 || ran.exit == 128 + SIGKILL || ran.exit == 128 + SIGTERM));
    ASSERT_TRUE(known_end) << ran.exit << "\n" << ran.out << ran.err;
    ++counts[pulled          ? "pulled disks"
             : own_full      ? "runs on a full PC"
             : killed        ? "kills and stops"
             : ran.exit == 5 ? "runs without a disk"
             : ran.exit == 6 ? "runs on a full disk"
                             : "runs"];
    if (ran.err.find("is gone on with") != std::string::npos) ++counts["runs gone on with"];
    for (const char* disk : {"blue", "red"}) {
      if (!plugged_in(disk)) continue;
      for (const auto& set : sets_on(disk)) {
        if (model.try_emplace({disk, set}, now).second)
          made_good[{disk, set}] = damaged.contains(disk);
      }
    }
  }
  std::vector<std::string> sets_on(const std::string& disk) {
    std::vector<std::string> sets;
    Json found = desk.json({"sets", "--shelf", shelf(disk)}, damaged.contains(disk) ? 4 : 0);
    for (const Json& chain : found["chains"]) {
      for (const Json& set : chain["sets"]) sets.push_back(set["set"]);
    }
    return sets;
  }
  // What the PC's index claims of each shelf that is there is what its ledgers say.
  void check_indexes() {
    for (const char* disk : {"blue", "red"}) {
      if (!plugged_in(disk)) continue;
      Home home = Home::find(desk.folder / "home");
      OpenShelf open = open_shelf_at(MachineState(home), shelf(disk));
      if (!open.state || !path_exists(open.state->index_path())) continue;
      if (open.shelf.label().recipient && !identities.contains(disk)) {
        Secret passphrase{std::string_view(desk.environment["KESTRUM_PASSPHRASE"])};
        identities[disk] = unlock_shelf(open, passphrase).identities;
      }
      for (const auto& text : index_differences(home, shelf(disk), identities[disk])) {
        ADD_FAILURE() << disk << ": " << text;
      }
      ++counts["indexes checked"];
    }
  }
  // A part of some set is damaged or lost, found, and after some time put back from elsewhere.
  void damage() {
    std::string disk = some_disk();
    if (!plugged_in(disk) || damaged.contains(disk)) return;
    std::vector<std::string> parts;
    for (const auto& file : fs::recursive_directory_iterator(shelf(disk) + "/sets")) {
      std::string path = file.path();
      bool sealed = path.find(".unfinished") == std::string::npos &&
                    path_exists(parent_of(path) + "/seal.json");
      if (sealed && base_name(path).starts_with("part-")) parts.push_back(path);
    }
    if (parts.empty()) return;
    std::sort(parts.begin(), parts.end());
    std::string path = parts[below(static_cast<unsigned>(parts.size()))];
    std::string kept = desk.folder / ("kept-" + disk);
    fs::copy_file(path, kept);
    unsigned how = below(3);
    if (how == 0) {
      fs::remove(path);
    } else if (how == 1) {
      fs::resize_file(path, fs::file_size(path) / 2);
    } else {
      std::fstream file(path, std::ios::in | std::ios::out | std::ios::binary);
      file.seekp(static_cast<std::streamoff>(below(static_cast<unsigned>(fs::file_size(path)))));
      file.put('!').put('?');
    }
    damaged[disk] = path;
    std::erase_if(made_good, [&](const auto& entry) { return entry.first.first == disk; });
    Ran ran = desk.kestrum({"verify", "--shelf", shelf(disk)});
    ASSERT_EQ(ran.exit, 4) << path << "\n" << ran.out << ran.err;
    ++counts["damaged parts"];
  }
  void mend() {
    std::string disk = some_disk();
    if (!plugged_in(disk) || !damaged.contains(disk)) return;
    std::string kept = desk.folder / ("kept-" + disk);
    ASSERT_TRUE(path_exists(parent_of(damaged[disk]))) << "a damaged set is never removed";
    std::string other = desk.folder / (disk + "/of-another-program");
    if (path_exists(other)) fs::remove(other);
    if (run_program({"cp", kept, damaged[disk]}).exit != 0) return;  // no room yet
    fs::remove(kept);
    damaged.erase(disk);
    Ran ran = desk.kestrum({"verify", "--shelf", shelf(disk)});
    ASSERT_EQ(ran.exit, 0) << ran.out << ran.err;
    ++counts["parts put back"];
  }
  void prune() {
    Ran ran = desk.kestrum({"prune", "desk", "--to-free", std::to_string(1 + below(30)) + " MB"});
    ASSERT_TRUE(ran.exit == 0 || ran.exit == 6 || ran.exit == 5) << ran.out << ran.err;
    ++counts["prunes"];
  }
  void restore_one() {
    std::string disk = some_disk();
    if (!plugged_in(disk)) return;
    auto sets = sets_on(disk);
    if (sets.empty()) return;
    std::string set = sets[below(static_cast<unsigned>(sets.size()))];
    std::string to = desk.folder / "back";
    // By this PC, which knows the shelf, or by one that has never seen it.
    std::string home = desk.environment["KESTRUM_HOME"];
    if (below(2) == 0) desk.environment["KESTRUM_HOME"] = desk.folder / "empty-home";
    Ran ran = desk.kestrum(
        {"restore", "--shelf", shelf(disk), "--point", set, "--to", to, "--layout", "full"});
    desk.environment["KESTRUM_HOME"] = home;
    // A set that was made after the damage was known leans on nothing that is damaged.
    bool whole = !damaged.contains(disk) || made_good[{disk, set}];
    ASSERT_TRUE(ran.exit == 0 || (!whole && ran.exit == 4)) << disk << " " << set << "\n"
                                                            << ran.out << ran.err;
    Tree expected = model.at({disk, set}), found = tree_of(to + desk.source());
    if (ran.exit == 4) {  // what is missing was said; what came back must be right
      std::erase_if(expected, [&](const auto& entry) { return !found.contains(entry.first); });
    }
    ASSERT_EQ(difference(expected, found), "") << disk << " " << set;
    fs::remove_all(to);
    ++counts[whole ? "restores compared" : "restores from damaged sets compared"];
    counts["files compared"] += expected.size();
  }
  void verify() {
    std::string disk = some_disk();
    if (!plugged_in(disk)) return;
    Ran ran = desk.kestrum({"verify", "--shelf", shelf(disk), "--contents"});
    ASSERT_EQ(ran.exit, damaged.contains(disk) ? 4 : 0) << ran.out << ran.err;
    ++counts["verifies"];
  }

  Desk desk;
  std::uint64_t seed = 0;
  std::mt19937_64 random;
  std::unique_ptr<TreeMaker> tree;
  std::unique_ptr<LargeFiles> large;
  std::vector<std::unique_ptr<SmallDisk>> disks;
  std::unique_ptr<SmallDisk> own_disk;
  std::map<std::string, std::vector<Identity>> identities;  // by disk
  std::map<Point, Tree> model;
  std::map<std::string, std::string> damaged;  // by disk: the part that is damaged there
  std::map<Point, bool> made_good;             // made while there was damage, which was known
  std::map<std::string, std::uint64_t> counts;
};

TEST_F(Soak, EveryRestorePointStaysWhatItWas) {
  Nanos end = history_end();
  while (steady_now() < end && !HasFailure()) {
    unsigned what = below(100);
    if (what < 25) {
      edit();
    } else if (what < 45) {
      attempt(false);
    } else if (what < 65) {
      attempt(true);
    } else if (what < 71) {
      rotate();
    } else if (what < 75) {
      fill_or_empty();
    } else if (what < 76) {
      lose_index();
    } else if (what < 81) {
      prune();
    } else if (what < 83) {
      damage();
    } else if (what < 86) {
      mend();
    } else if (what < 97) {
      restore_one();
    } else {
      verify();
    }
    if (what >= 25 && what < 86) check_indexes();
  }
  tell_history(counts, seed, HasFailure());
}

}  // namespace
}  // namespace kestrum::test
