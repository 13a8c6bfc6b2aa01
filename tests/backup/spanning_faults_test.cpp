// A set goes on from a full disk to the next, and at any call on either disk or on the PC's own
// something goes wrong. Whatever happens, what was sealed comes back, the next run goes on, and
// nothing that a sealed set needs is taken from a disk that was filled.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/access/open_place.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/inspect/verify.h"
#include "kestrum/place/local_place.h"
#include "support/durable_disk.h"
#include "support/engine_desk.h"
#include "support/fault_sweep.h"
#include "support/faulty_state.h"
#include "support/small_place.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kDiskSize = 420'000;

class SpanningFaults : public EngineDesk, public testing::Test {
 protected:
  enum class Where { kFirstDisk, kSecondDisk, kState };

  void begin(const std::function<void()>& set_opener = {}) {
    for (const char* name : {"green", "yellow"}) fs::create_directories(place(name));
    for (int i = 0; i < 3; ++i) put_file(file(i), noise(30'000, static_cast<unsigned>(i)));
    desk.define({"--to", place("green"), "--to", place("yellow"), "--protection", "none",
                 "--part-size", "100 kB", "--when-full", "ask"});
    set_opener ? set_opener() : set_place_opener(on_small_disks(kDiskSize));
    EXPECT_EQ(run_once().exit, 0);
    set_place_opener({});
    for (int i = 3; i < 12; ++i) put_file(file(i), noise(60'000, static_cast<unsigned>(i)));
  }
  std::string place(const std::string& name) const {
    return name == "blue" ? desk.disk() : desk.folder / name;
  }
  std::string shelf_on(const std::string& name) const { return place(name) + "/test-pc/desk"; }
  std::string file(int i) { return desk.source() + "/file-" + std::to_string(100 + i); }
  ShelfRecord record() const { return machine().shelves("desk").at(0).record; }

  void copy_all(const std::string& from, const std::string& to) {
    for (const std::string name : {"home", "disk", "green", "yellow"}) {
      copy_tree(desk.folder / (name + from), desk.folder / (name + to));
    }
  }

  // While `act` runs, the disks are small.
  void fill_room(const std::function<void()>& act) {
    set_place_opener(on_small_disks(kDiskSize));
    act();
    set_place_opener({});
  }

  // The same with a fault at a call of `where`; false if there was none so late.
  bool with_fault(Where where, int at, int kind, const std::function<void()>& act) {
    FaultyState state(desk.folder / "home/state");
    std::map<std::string, std::unique_ptr<DurableDisk>> disks;
    for (const char* name : {"blue", "green", "yellow"}) {
      auto& disk = disks[shelf_on(name)] = std::make_unique<DurableDisk>(shelf_on(name));
      disk->dies_with([&] { return state.dead(); });
    }
    set_place_opener([&](const std::string& folder) -> std::shared_ptr<Place> {
      auto disk = disks.find(folder);
      if (disk == disks.end()) return std::make_shared<LocalPlace>(folder);
      return std::make_shared<SmallPlace>(disk->second->place(), folder, kDiskSize);
    });
    DurableDisk* faulty = where == Where::kFirstDisk    ? disks[shelf_on("blue")].get()
                          : where == Where::kSecondDisk ? disks[shelf_on("green")].get()
                                                        : nullptr;
    if (faulty != nullptr) {
      faulty->fail_at(at, kind == 0 ? DurableDisk::Fault::kOnce : DurableDisk::Fault::kPowerCut);
    } else {
      state.fail_at(at, static_cast<FaultyState::Fault>(kind));
    }
    act();
    bool failed = faulty != nullptr ? faulty->failed() : state.failed();
    state.heal();
    set_place_opener({});
    if (faulty != nullptr && kind == 1) {
      for (auto& [folder, disk] : disks) disk->cut_power();
    }
    return failed;
  }

  void sweep(Where where, int kind, int every) {
    begin();
    copy_all("", "-before");
    Tree full = tree_of(desk.source());
    int at = 0;
    for (bool reached = true; reached; at += every) {
      SCOPED_TRACE("the fault was at call " + std::to_string(at));
      copy_all("-before", "");
      RunReport told;
      reached = with_fault(where, at, kind, [&] { told = run_once(); });
      fill_room([&] {
        EXPECT_TRUE(told.exit > 1 || told.set) << "a run said that it is done";
        for (int again = 0; again < 3; ++again) {
          told = run_once();
          if (told.exit <= 1) break;
        }
        EXPECT_LE(told.exit, 1) << told.reason << told.hint;
        EXPECT_NE(record().place, place("blue"));
        expect_the_newest_is(full);
        expect_nothing_is_damaged();
      });
      if (HasFailure()) return;
    }
    EXPECT_GT(at, every) << "a run makes more calls than that";
    RecordProperty("calls", at);
  }

  // By this PC, and by the disks alone.
  void expect_the_newest_is(const Tree& tree) {
    ReadOptions by_home, by_folder;
    by_home.job = job();
    by_folder.shelf_folder = record().place + "/" + record().folder;
    by_home.need_content = by_folder.need_content = true;
    Home empty = Home::find(desk.folder / "empty-home");
    for (bool own : {true, false}) {
      SCOPED_TRACE(own ? "by this home" : "by the disks alone");
      QuietRestore quiet;
      std::string back = restore(own ? by_home : by_folder, own ? home : empty, {}, quiet);
      EXPECT_EQ(difference(tree, tree_of(back)), "");
    }
  }

  void expect_nothing_is_damaged() {
    OpenShelf open = find_shelf(machine(), job());
    Observer quiet;
    VerifyRequest request;
    request.contents = true;
    VerifyResult result = verify_shelf(open, {}, request, quiet);
    for (const Damage& damage : result.damage) {
      ADD_FAILURE() << (damage.set ? damage.set->to_string() : "") << " " << damage.file << ": "
                    << damage.reason;
    }
    EXPECT_TRUE(result.away.empty());
  }
};

// Where no folder can be given another name.
class KeepsNames : public ForwardingPlace {
 public:
  explicit KeepsNames(std::shared_ptr<Place> below)
      : ForwardingPlace(*below), owner_(std::move(below)) {}
  void rename(const std::string& from, const std::string& to) override {
    bool is_set = from.starts_with("sets/") && from.find('/', 5) == std::string::npos;
    if (is_set) throw Error(ErrorKind::kFailed, from + ": not allowed");
    below_.rename(from, to);
  }
  bool may_rename() override { return false; }

 private:
  std::shared_ptr<Place> owner_;
};

TEST_F(SpanningFaults, SetsThatKeepTheNameTheyWereBegunUnderGoAlong) {
  PlaceOpener small = on_small_disks(kDiskSize);
  auto rename_nothing = [&] {
    set_place_opener([&](const std::string& folder) -> std::shared_ptr<Place> {
      return std::make_shared<KeepsNames>(small(folder));
    });
  };
  begin(rename_nothing);
  rename_nothing();
  Tree full = tree_of(desk.source());
  EXPECT_EQ(run_once().exit, 0);
  EXPECT_NE(record().place, place("blue"));
  OpenShelf open = find_shelf(machine(), job());
  ASSERT_EQ(open.shelf.sets().size(), 2U) << "both of them";
  for (const ShelfSet& set : open.shelf.sets()) {
    EXPECT_TRUE(set.sealed() && set.folder.ends_with(kUnfinishedSuffix)) << set.folder;
  }
  expect_the_newest_is(full);
  expect_nothing_is_damaged();
}

// Of a set that was begun on one disk, and anew on the next one since nobody knew of that any more,
// the first disk holds parts of the same names.
TEST_F(SpanningFaults, WhatAnEarlierAttemptLeftOnItsDiskIsNotTakenForTheSet) {
  begin();
  fs::rename(place("green"), place("green") + "-away");
  fs::rename(place("yellow"), place("yellow") + "-away");
  fill_room([&] { EXPECT_EQ(run_once().exit, 6); });
  EXPECT_EQ(list_folder(shelf_on("blue") + "/sets").size(), 2U);
  desk.lose_index();
  fs::rename(place("green") + "-away", place("green"));
  fs::rename(place("yellow") + "-away", place("yellow"));
  put_file(file(3), noise(50'000, 99));
  Tree full = tree_of(desk.source());
  fill_room([&] { EXPECT_EQ(run_once().exit, 0); });
  EXPECT_EQ(record().place, place("yellow"));
  for (const char* name : {"blue", "green"}) {
    std::string sets = shelf_on(name) + "/sets/";
    EXPECT_TRUE(path_exists(sets + list_folder(sets).back() + "/part-000001.tar.zst")) << name;
  }
  expect_the_newest_is(full);
  expect_nothing_is_damaged();
  // Nor while the disk of the set is out.
  fs::rename(place("green"), desk.folder / ".green");  // where no disk is looked for
  OpenShelf open = find_shelf(machine(), job());
  Observer quiet;
  VerifyResult result = verify_shelf(open, {}, {}, quiet);
  EXPECT_TRUE(result.damage.empty());
  EXPECT_FALSE(result.away.empty());
}

TEST_F(SpanningFaults, TheDiskThatIsLeftFailsOnce) {
  sweep(Where::kFirstDisk, 0, fault_stride(17));
}
TEST_F(SpanningFaults, TheDiskThatIsLeftLosesItsPower) {
  sweep(Where::kFirstDisk, 1, fault_stride(17));
}
TEST_F(SpanningFaults, TheNextDiskFailsOnce) {
  sweep(Where::kSecondDisk, 0, fault_stride(17));
}
TEST_F(SpanningFaults, TheNextDiskLosesItsPower) {
  sweep(Where::kSecondDisk, 1, fault_stride(17));
}
TEST_F(SpanningFaults, TheStateFailsOnce) {
  sweep(Where::kState, static_cast<int>(FaultyState::Fault::kOnce), fault_stride(41));
}
TEST_F(SpanningFaults, TheStateIsFull) {
  sweep(Where::kState, static_cast<int>(FaultyState::Fault::kFull), fault_stride(41));
}
TEST_F(SpanningFaults, TheProcessIsKilled) {
  sweep(Where::kState, static_cast<int>(FaultyState::Fault::kKill), fault_stride(41));
}

}  // namespace
}  // namespace kestrum::test
