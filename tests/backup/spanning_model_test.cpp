// Random weeks of a job whose sets go on from disk to disk: disks come and go, are filled, runs are
// stopped, the passphrase-less PC loses its index. After every step a model knows what each restore
// point held: with all disks there every one comes back, with some of them nothing wrong does.
#include <gtest/gtest.h>

#include <filesystem>
#include <random>

#include "kestrum/access/open_place.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/inspect/verify.h"
#include "kestrum/place/local_place.h"
#include "support/engine_desk.h"
#include "support/fault_sweep.h"
#include "support/small_place.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kModelDiskSize = 500'000;
constexpr int kDisks = 7, kSteps = 40;

class SpanningModel : public EngineDesk, public testing::TestWithParam<unsigned> {
 protected:
  SpanningModel() : random_(GetParam()) {}

  unsigned below(unsigned limit) { return random_() % limit; }
  std::string name(int disk) const { return "disk-" + std::to_string(disk); }
  std::string place(int disk) const { return desk.folder / name(disk); }
  std::string hidden(int disk) const { return desk.folder / ("." + name(disk)); }
  bool is_in(int disk) const { return fs::exists(place(disk)); }
  void take_out(int disk) {
    if (is_in(disk)) fs::rename(place(disk), hidden(disk));
  }
  void plug_in(int disk) {
    if (!is_in(disk)) fs::rename(hidden(disk), place(disk));
  }
  void plug_in_all() {
    for (int disk = 0; disk < kDisks; ++disk) plug_in(disk);
  }

  void begin() {
    std::vector<std::string> words = {"job",         "new",         "desk",         "--from",
                                      desk.source(), "--same-disk", "--protection", "none",
                                      "--part-size", "100 kB",      "--when-full",  "ask"};
    fs::create_directories(desk.source());
    for (int disk = 0; disk < kDisks; ++disk) {
      fs::create_directories(place(disk));
      words.insert(words.end(), {"--to", place(disk)});
    }
    change();
    Ran ran = desk.kestrum(words);
    ASSERT_EQ(ran.exit, 0) << ran.out << ran.err;
    Ran set = desk.kestrum({"job", "set", "desk", "source.stretches_above", "1 MB"});
    ASSERT_EQ(set.exit, 0) << set.err;
    desk.kestrum({"job", "set", "desk", "report.suspect_above", "100%"});
    set_place_opener(on_small_disks(kModelDiskSize));
  }

  void change() {
    for (unsigned i = 0, count = 1 + below(6); i < count; ++i) {
      std::string path = desk.source() + "/file-" + std::to_string(below(12));
      if (below(5) == 0) {
        fs::remove(path);
      } else {
        put_file(path, noise(1'000 + below(70'000), random_()));
      }
    }
  }

  // The sealed sets of the disk that the shelf is on.
  std::vector<SetId> sealed() {
    OpenShelf open = find_shelf(machine(), job());
    std::vector<SetId> ids;
    for (const ShelfSet& set : open.shelf.sets()) {
      EXPECT_TRUE(set.sealed()) << set.problem;
      ids.push_back(set.id);
    }
    return ids;
  }

  void run() {
    BackupOptions options;
    int patience = below(4) == 0 ? static_cast<int>(below(60)) : INT32_MAX;
    std::atomic<int> left = patience;
    options.stop = [&] { return left-- <= 0; };
    if (below(6) == 0) options.kind = SetKind::kFull;
    RunReport report = run_once(options);
    bool expected = report.exit <= 1 || report.exit == 5 || report.exit == 6 || report.exit == 130;
    EXPECT_TRUE(expected) << report.exit << " " << report.reason;
    if (report.exit <= 1) points_[report.set->to_string()] = tree_of(desk.source());
  }

  // What lies on a disk that is out does not come back, and is no damage.
  class Told : public QuietRestore {
   public:
    void failed(const std::string& path, const std::string& reason, bool damage) override {
      EXPECT_FALSE(damage) << path << ": " << reason;
      ++failures;
    }
    int failures = 0;
  };

  // What comes back of a restore point, and how many files did not.
  Tree back(const std::string& set, int& failures) {
    Told told;
    ReadOptions options;
    options.job = job();
    options.need_content = true;
    std::string to = restore(options, home, set, told);
    failures = told.failures;
    return tree_of(to);
  }

  void expect_every_point_with_all_disks() {
    std::vector<int> out;
    for (int disk = 0; disk < kDisks; ++disk) {
      if (!is_in(disk)) out.push_back(disk);
    }
    plug_in_all();
    EXPECT_EQ(sealed().size(), points_.size());
    for (const auto& [set, tree] : points_) {
      int failures = 0;
      EXPECT_EQ(difference(tree, back(set, failures)), "") << set;
      EXPECT_EQ(failures, 0) << set;
    }
    OpenShelf open = find_shelf(machine(), job());
    Observer quiet;
    VerifyResult verified = verify_shelf(open, {}, {}, quiet);
    for (const Damage& damage : verified.damage) ADD_FAILURE() << damage.file << damage.reason;
    EXPECT_EQ(verified.restorable.size(), points_.size());
    EXPECT_TRUE(verified.away.empty());
    for (const auto& text : index_differences(home, open.path)) ADD_FAILURE() << text;
    for (int disk : out) take_out(disk);
  }

  // Of a point what is there is right, and all that is not was told.
  void expect_nothing_wrong_with_these_disks() {
    if (points_.empty()) return;
    auto point = points_.begin();
    std::advance(point, below(static_cast<unsigned>(points_.size())));
    try {
      int failures = 0;
      Tree some = back(point->first, failures);
      std::size_t there = 0;
      for (const auto& [path, state] : some) {
        auto known = point->second.find(path);
        EXPECT_TRUE(known != point->second.end() && known->second == state) << path;
        ++there;
      }
      EXPECT_EQ(there + static_cast<std::size_t>(failures), point->second.size());
    } catch (const Error& error) {  // the disk that the shelf is on is out
      EXPECT_EQ(error.kind(), ErrorKind::kPlace) << error.message();
    }
  }

  std::mt19937 random_;
  std::map<std::string, Tree> points_;
};

TEST_P(SpanningModel, EveryRestorePointComesBack) {
  begin();
  for (int step = 0; step < kSteps && !HasFailure(); ++step) {
    SCOPED_TRACE("step " + std::to_string(step));
    switch (below(8)) {
      case 0:
        take_out(static_cast<int>(below(kDisks)));
        break;
      case 1:
        plug_in(static_cast<int>(below(kDisks)));
        break;
      case 2:
        plug_in_all();
        break;
      case 3:
        if (below(4) == 0) desk.lose_index();
        break;
      case 4:
        expect_nothing_wrong_with_these_disks();
        break;
      default:
        change();
        run();
        expect_every_point_with_all_disks();
    }
  }
  ASSERT_FALSE(points_.empty());
  RecordProperty("points", static_cast<int>(points_.size()));
  RecordProperty("disks", static_cast<int>(machine().shelves("desk").at(0).record.moves) + 1);
}

INSTANTIATE_TEST_SUITE_P(Seeds, SpanningModel, testing::Range(1U, 1U + 24U / fault_stride(6)));

}  // namespace
}  // namespace kestrum::test
