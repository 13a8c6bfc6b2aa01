// The power is cut, or one call fails, at every single call to the disk: while a run writes and
// commits, while a set is removed, while the passphrase or the key changes, while a shelf is taken
// over. Only what was synced survives the cut. Whatever happens, every sealed set stays whole, the
// shelf opens, and the next attempt succeeds.
#include <gtest/gtest.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>

#include "kestrum/access/change_keys.h"
#include "kestrum/access/claim.h"
#include "kestrum/access/open_place.h"
#include "kestrum/access/unlock.h"
#include "kestrum/backup/backup.h"
#include "kestrum/backup/copy_job.h"
#include "kestrum/backup/prune.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/crypto/age_header.h"
#include "kestrum/job/job_store.h"
#include "kestrum/place/local_place.h"
#include "support/durable_disk.h"
#include "support/engine_desk.h"
#include "support/fault_sweep.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using Fault = DurableDisk::Fault;

constexpr const char* kOther = "another made-up passphrase";

class CrashSweep : public EngineDesk, public testing::Test {
 protected:
  explicit CrashSweep(Fault fault) : fault_(fault) {}
  void SetUp() override {
    put_file(desk.source() + "/rota.csv", "monday,presenter\n");
    for (int i = 0; i < 6; ++i) {
      put_file(desk.source() + "/file-" + std::to_string(i),
               noise(60'000, static_cast<unsigned>(i)));
    }
  }

  // A job with two sets, its identity wrapped cheaply. What follows begins here each time.
  void begin(const std::vector<std::string>& words) {
    std::vector<std::string> all = {"--part-size", "100 kB"};
    all.insert(all.end(), words.begin(), words.end());
    desk.define(all);
    wrap_cheaply();
    run_once();
    learn();
    put_file(desk.source() + "/file-0", noise(50'000, 50));
    fs::remove(desk.source() + "/file-5");
    run_once();
    learn();
  }
  // Does `act` again and again from the same beginning, with the fault at each call in turn, and
  // has `check` look at what is left.
  void at_many_calls(int every, const std::function<void()>& act,
                     const std::function<void()>& check) {
    remember();
    int tried = 0;
    // What one kind of fault passes by, the other may hit.
    int call = fault_ == Fault::kPowerCut ? every / 2 : 0;
    for (bool reached = true; reached; call += every, ++tried) {
      put_back();
      if (prepare_) prepare_();
      std::string swept = swept_.empty() ? desk.shelf() : swept_;
      DurableDisk disk(swept);
      set_place_opener([&](const std::string& folder) -> std::shared_ptr<Place> {
        if (folder == swept) return disk.place();
        return std::make_shared<LocalPlace>(folder);
      });
      disk.fail_at(call, fault_);
      try {
        act();
      } catch (const Error&) {
        // Told to the user.
      }
      reached = disk.failed();
      set_place_opener({});
      if (fault_ == Fault::kPowerCut) disk.cut_power();
      SCOPED_TRACE("the fault was at call " + std::to_string(call));
      check();
      if (testing::Test::HasFailure()) return;
    }
    EXPECT_GT(call, 10);
    RecordProperty("tried", tried);
  }

  void expect_all_whole() {
    Ran ran = desk.kestrum({"verify", "desk", "--contents"});
    EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
    EXPECT_GE(desk.json({"sets", "desk"})["chains"].size(), 1u);
  }
  // The copies of the wrapped identity may differ after a change that was cut; no set may suffer.
  void expect_sets_whole() {
    Ran ran = desk.kestrum({"verify", "desk", "--contents", "--json"});
    Json found = parse_json(ran.out, "verify");
    EXPECT_EQ(found["restorable"].size(), 2u) << ran.out;
    for (const Json& damage : found["damage"]) {
      EXPECT_TRUE(damage["set"].is_null() && damage["file"].get<std::string>().starts_with("keys/"))
          << damage;
    }
  }
  // After a run that was cut: what was there is, the next run succeeds, and every point is right.
  // The model is then again what it was.
  void expect_another_run(const std::map<std::string, Tree>& begun) {
    for (const auto& [set, tree] : begun) {
      EXPECT_TRUE(sets().contains(set)) << set << " was removed";
    }
    learn();
    expect_index_is_true();
    EXPECT_EQ(run_once().exit, 0);
    expect_all_whole();
    expect_index_is_true();
    learn();
    expect_every_point();
    model = begun;
  }
  void expect_run_and_restore() {
    RunReport report = run_once();
    EXPECT_EQ(report.exit, 0) << report.reason;
    expect_all_whole();
    std::string to = desk.folder / "back";
    EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", to, "--layout", "full"}).exit, 0);
    EXPECT_EQ(difference(tree_of(desk.source()), tree_of(to + desk.source())), "");
    fs::remove_all(to);
  }

  std::string swept_;              // the folder on the disk that fails; empty: the shelf
  std::function<void()> prepare_;  // before each try

 private:
  Fault fault_;
};

std::string crash_fault_name(Fault fault) {
  return fault == Fault::kOnce ? "Once" : "PowerCut";
}

class CrashPoints : public CrashSweep, public testing::WithParamInterface<Fault> {
 protected:
  CrashPoints() : CrashSweep(GetParam()) {}
};
class CrashPointsIn : public CrashSweep,
                      public testing::WithParamInterface<std::tuple<Fault, SweptRun>> {
 protected:
  CrashPointsIn() : CrashSweep(std::get<0>(GetParam())) {}
};

const auto kFaults = testing::Values(Fault::kOnce, Fault::kPowerCut);
INSTANTIATE_TEST_SUITE_P(Faults, CrashPoints, kFaults,
                         [](const auto& of) { return crash_fault_name(of.param); });
INSTANTIATE_TEST_SUITE_P(Faults, CrashPointsIn,
                         testing::Combine(kFaults, testing::ValuesIn(swept_runs())),
                         [](const auto& of) {
                           return crash_fault_name(std::get<0>(of.param)) +
                                  std::get<1>(of.param).name;
                         });

TEST_P(CrashPointsIn, ARun) {
  const SweptRun& swept = std::get<1>(GetParam());
  begin({"--protection", swept.is_protected ? "passphrase" : "none"});
  BackupOptions options;
  options.kind = swept.kind;
  put_file(desk.source() + "/file-7", noise(250'000, 7));
  put_file(desk.source() + "/file-8", noise(50'000, 8));
  const std::map<std::string, Tree> begun = model;
  at_many_calls(
      fault_stride(4 * swept.stride_factor), [&] { run_once(options); },
      [&] { expect_another_run(begun); });
}

// What is new of it lies in entries of its own, some of them in parts that last when the run is
// cut.
TEST_P(CrashPoints, ARunOfALargeFileThatChanged) {
  begin({"--protection", "none"});
  ASSERT_NO_FATAL_FAILURE(change_a_large_file(2'500'000));
  const std::map<std::string, Tree> begun = model;
  at_many_calls(
      fault_stride(25), [&] { run_once(); }, [&] { expect_another_run(begun); });
}

TEST_P(CrashPoints, ARemoval) {
  begin({"--protection", "none", "--keep-for", "0 days", "--when-full", "stop"});
  ASSERT_EQ(desk.kestrum({"run", "desk", "--kind", "full"}).exit, 0);
  ASSERT_EQ(desk.json({"sets", "desk"})["chains"].size(), 2u);
  at_many_calls(
      fault_stride(3),
      [&] {
        Observer quiet;
        prune_job(MachineState(home), job(), std::nullopt, {}, Clock(), quiet);
      },
      [&] {
        expect_all_whole();
        Json pruned = desk.json({"prune", "desk"});
        EXPECT_EQ(desk.json({"sets", "desk"})["chains"].size(), 1u) << pruned;
        for (const auto& name : list_folder(desk.shelf() + "/sets")) {
          EXPECT_FALSE(name.ends_with(".removing")) << name;
        }
        expect_run_and_restore();
        expect_index_is_true();
      });
}

TEST_P(CrashPoints, AChangeOfPassphrase) {
  begin({});
  auto change = [&] {
    OpenShelf open = find_shelf(MachineState(home), job());
    IdentityFile identity = unlock_shelf(open, secret(passphrase()));
    rewrap_identity(open, identity, secret(kOther), {});
  };
  at_many_calls(fault_stride(8), change, [&] {
    // One of the two opens it; which, nobody can say who was not told that it is done.
    std::string right = passphrase();
    bool old_opens = desk.kestrum({"passphrase", "desk", "--try"}).exit == 0;
    if (!old_opens) desk.environment["KESTRUM_PASSPHRASE"] = kOther;
    expect_sets_whole();
    change();
    desk.environment["KESTRUM_PASSPHRASE"] = kOther;
    expect_run_and_restore();
    expect_index_is_true();
    desk.environment["KESTRUM_PASSPHRASE"] = right;
  });
}

TEST_P(CrashPoints, AChangeOfKey) {
  begin({});
  auto change = [&] {
    OpenShelf open = find_shelf(MachineState(home), job());
    IdentityFile identity = unlock_shelf(open, secret(passphrase()));
    start_new_key(open, std::move(identity), secret(passphrase()), {}, real_now());
  };
  at_many_calls(fault_stride(8), change, [&] {
    expect_sets_whole();
    EXPECT_EQ(run_once().exit, 0) << "with the old key or with the new one";
    change();
    expect_run_and_restore();
    expect_index_is_true();
  });
}

TEST_P(CrashPoints, ATakingOver) {
  begin({});
  Home own = home;
  auto claim = [&] {
    ClaimOptions options;
    options.shelf = desk.shelf();
    options.passphrase = [&] { return std::optional(secret(passphrase())); };
    Observer quiet;
    return claim_shelf(Home::find(desk.folder / "new-home"), options, Clock(), quiet);
  };
  at_many_calls(
      fault_stride(8),
      [&] {
        fs::remove_all(desk.folder / "new-home");
        claim();
      },
      [&] {
        home = Home::find(desk.folder / "new-home");
        if (!JobStore(home).has("desk")) {
          ClaimedShelf claimed = claim();
          EXPECT_FALSE(claimed.damaged);
          EXPECT_EQ(claimed.sets, 2u);
        }
        std::string old_home = std::exchange(desk.environment["KESTRUM_HOME"], home.config);
        expect_run_and_restore();
        expect_index_is_true();
        desk.environment["KESTRUM_HOME"] = old_home;
        home = own;
      });
}

// Onto an empty disk, and onto one that has an older copy. The shelf is only read.
TEST_P(CrashPoints, ACopyOfTheShelf) {
  for (bool older : {false, true}) {
    SCOPED_TRACE(older ? "brought up to date" : "made");
    if (older) desk.kestrum({"job", "remove", "desk", "--yes"});
    fs::remove_all(desk.disk());
    fs::create_directories(desk.disk());
    begin({"--protection", older ? "none" : "passphrase"});
    const std::string place = desk.folder / "second", kept = desk.folder / "kept";
    swept_ = place + "/test-pc/desk";
    auto copy = [&] {
      CopyJobOptions options;
      options.place = place;
      options.same_disk = true;
      Observer quiet;
      return copy_job(MachineState(home), job(), options, Clock(), quiet);
    };
    fs::remove_all(place);
    fs::create_directories(swept_);
    if (older) {
      copy();
      put_file(desk.source() + "/file-7", noise(250'000, 7));
      run_once();
    }
    copy_tree(place, kept);
    Tree shelf;
    prepare_ = [&] {
      copy_tree(kept, place);
      shelf = tree_of(desk.shelf());
    };
    const std::vector<std::string> sets = list_folder(desk.shelf() + "/sets");
    at_many_calls(
        fault_stride(older ? 7 : 13), [&] { copy(); },
        [&] {
          EXPECT_EQ(difference(shelf, tree_of(desk.shelf())), "");
          bool begun = fs::exists(swept_ + "/sets");
          for (const std::string& name :
               begun ? list_folder(swept_ + "/sets") : std::vector<std::string>()) {
            bool has_seal = fs::exists(swept_ + "/sets/" + name + "/seal.json");
            EXPECT_TRUE(has_seal || name.ends_with(".unfinished")) << name;
          }
          if (fs::exists(swept_ + "/shelf.json")) {
            Json found = desk.json({"verify", "--shelf", swept_});
            EXPECT_EQ(found["damage"], Json::array());
            EXPECT_GE(found["restorable"].size(), older ? 2U : 0U);
          }
          CopyJobResult again = copy();
          EXPECT_EQ(again.copy.problems, std::vector<std::string>());
          EXPECT_EQ(list_folder(swept_ + "/sets"), sets);
          EXPECT_EQ(desk.json({"verify", "--shelf", swept_})["damage"], Json::array());
        });
  }
}

class CrashPair : public CrashPoints {
 protected:
  const int stride_ = fault_stride(3);
};
INSTANTIATE_TEST_SUITE_P(Faults, CrashPair, testing::Values(Fault::kOnce));

// A commit fails at one of its calls, and the process is killed some calls later, while it tidies
// up: the set is there with all its files, or it is not there.
TEST_P(CrashPair, ACommitThatFailsAndIsKilledWhileItTidiesUp) {
  begin({"--protection", "none"});
  put_file(desk.source() + "/file-7", noise(50'000, 7));
  remember();
  auto known = model;
  int tried = 0;
  auto run_with = [&](DurableDisk& disk) {
    set_place_opener([&](const std::string& folder) -> std::shared_ptr<Place> {
      if (folder == desk.shelf()) return disk.place();
      return std::make_shared<LocalPlace>(folder);
    });
    run_once();
    set_place_opener({});
  };
  // The calls of the commit: from the seal's signature on.
  DurableDisk watched(desk.shelf());
  watched.fail_at(-1, Fault::kOnce);
  run_with(watched);
  std::vector<std::string> calls = watched.called();
  auto first = std::find_if(calls.begin(), calls.end(), [](const std::string& call) {
    return call.find("seal.json.new") != std::string::npos;
  });
  auto last = std::find_if(first, calls.end(), [](const std::string& call) {
    return call.starts_with("sync_folder sets") && call == "sync_folder sets";
  });
  ASSERT_NE(last, calls.end());
  for (auto at = first; at <= last; ++at) {
    for (int later : stride_ > 1 ? std::vector{1, 6} : std::vector{0, 1, 3, 6, 12}) {
      put_back();
      model = known;
      DurableDisk disk(desk.shelf());
      disk.fail_at(static_cast<int>(at - calls.begin()), Fault::kOnce);
      disk.then_cut_after(later);
      run_with(disk);
      SCOPED_TRACE(*at + " failed, and all ended " + std::to_string(later) + " calls later");
      learn();
      expect_index_is_true();
      expect_every_point();
      EXPECT_EQ(run_once().exit, 0);
      learn();
      expect_index_is_true();
      expect_every_point();
      if (HasFailure()) return;
      ++tried;
    }
  }
  EXPECT_GT(tried, 10);
}

// Another PC takes the shelf over and runs there, in the middle of this PC's run.
TEST_P(CrashPair, ATakingOverInTheMiddleOfARun) {
  begin({"--protection", "none"});
  put_file(desk.source() + "/file-7", noise(150'000, 7));
  remember();
  auto known = model;
  Home own = home;
  bool sealed_before = false, refused = false, reached = true;
  // Closer together towards the end, where the set is sealed.
  for (int call = 0; reached; call += call < 30 ? 3 * stride_ : stride_) {
    put_back();
    model = known;
    home = own;
    fs::remove_all(desk.folder / "new-home");
    Home other = Home::find(desk.folder / "new-home");
    reached = false;
    DurableDisk disk(desk.shelf());
    disk.fail_at(-1, Fault::kOnce);
    PlaceOpener opener = [&](const std::string& folder) -> std::shared_ptr<Place> {
      if (folder == desk.shelf()) return disk.place();
      return std::make_shared<LocalPlace>(folder);
    };
    disk.before_call(call, [&] {
      reached = true;
      set_place_opener({});
      ClaimOptions options;
      options.shelf = desk.shelf();
      options.passphrase = [] { return std::nullopt; };
      Observer quiet;
      claim_shelf(other, options, Clock(), quiet);
      home = other;
      EXPECT_LE(run_once().exit, 1);
      home = own;
      set_place_opener(opener);
    });
    set_place_opener(opener);
    RunReport report = run_once();
    set_place_opener({});
    SCOPED_TRACE("it was taken over at call " + std::to_string(call));
    if (reached) {
      home = other;
      refused |= report.exit == 5;
      sealed_before |= report.exit <= 1;
    }
    learn();  // and no number twice
    EXPECT_LE(run_once().exit, 1);
    learn();
    expect_index_is_true();
    expect_every_point();
    for (const auto& [set, tree] : known) EXPECT_TRUE(sets().contains(set)) << set;
    if (HasFailure()) return;
  }
  EXPECT_TRUE(refused);
  EXPECT_TRUE(sealed_before || stride_ > 1);
  home = own;
}

}  // namespace
}  // namespace kestrum::test
