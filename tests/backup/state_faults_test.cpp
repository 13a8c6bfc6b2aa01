// The PC's own disk fails, is full, or the process is killed, at every single call that a run makes
// to its state. Whatever happens, the index claims nothing that the ledgers do not say, every
// restore point comes back as it was, by this PC and by the shelf alone, and the next run goes on.
#include <gtest/gtest.h>

#include <filesystem>
#include <tuple>

#include "kestrum/access/open_place.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/place/local_place.h"
#include "support/durable_disk.h"
#include "support/engine_desk.h"
#include "support/fault_sweep.h"
#include "support/faulty_state.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using StateFault = FaultyState::Fault;

class StateSweep : public EngineDesk, public testing::Test {
 protected:
  explicit StateSweep(StateFault fault) : fault_(fault) {}
  std::string file(int i) { return desk.source() + "/file-" + std::to_string(i); }

  void begin(const std::vector<std::string>& more) {
    for (int i = 0; i < 6; ++i) put_file(file(i), noise(30'000, static_cast<unsigned>(i)));
    std::vector<std::string> words = {"--part-size", "100 kB"};
    words.insert(words.end(), more.begin(), more.end());
    desk.define(words);
    wrap_cheaply();
    EXPECT_EQ(run_once().exit, 0);
    learn();
    put_file(file(0), noise(20'000, 50));
    fs::remove(file(5));
    EXPECT_EQ(run_once().exit, 0);
    learn();
  }

  // Does `act` again and again from the same beginning, with the fault at one call after the other.
  // `then` sees what is left once the disk is well again.
  void at_many_calls(int every, const std::function<void()>& act,
                     const std::function<void()>& then) {
    std::map<std::string, Tree> known = model;
    remember();
    int call = 0;
    for (bool reached = true; reached; call += every) {
      put_back();
      model = known;
      {
        FaultyState state(desk.folder / "home/state");
        DurableDisk disk(desk.shelf());
        disk.dies_with([&] { return state.dead(); });
        set_place_opener([&](const std::string& folder) -> std::shared_ptr<Place> {
          if (folder == desk.shelf()) return disk.place();
          return std::make_shared<LocalPlace>(folder);
        });
        state.fail_at(call, fault_);
        act();
        reached = state.failed();
        set_place_opener({});
      }
      SCOPED_TRACE("the fault was at call " + std::to_string(call));
      for (const auto& [set, tree] : known) {
        EXPECT_TRUE(sets().contains(set)) << set << " was removed";
      }
      learn();
      expect_index_is_true();
      then();
      if (HasFailure()) return;
    }
    EXPECT_GT(call, every) << "a run makes more calls than that";
    RecordProperty("calls", call);
  }

  // A run as on any other day: it succeeds, and afterwards every point is there and right.
  void expect_another_day() {
    RunReport report = run_once();
    EXPECT_LE(report.exit, 1) << report.reason;
    learn();
    expect_index_is_true();
    expect_every_point();
    OpenShelf open = find_shelf(machine(), job());
    Index index(open.state->index_path());
    EXPECT_TRUE(index_matches(open.shelf, index));
  }

 private:
  StateFault fault_;
};

std::string state_fault_name(StateFault fault) {
  return fault == StateFault::kOnce ? "Once" : fault == StateFault::kFull ? "Full" : "Kill";
}

class StateFaults : public StateSweep, public testing::WithParamInterface<StateFault> {
 protected:
  StateFaults() : StateSweep(GetParam()) {}
};
class StateFaultsIn : public StateSweep,
                      public testing::WithParamInterface<std::tuple<StateFault, SweptRun>> {
 protected:
  StateFaultsIn() : StateSweep(std::get<0>(GetParam())) {}
};

const auto kStateFaults = testing::Values(StateFault::kOnce, StateFault::kFull, StateFault::kKill);
INSTANTIATE_TEST_SUITE_P(Faults, StateFaults, kStateFaults,
                         [](const auto& of) { return state_fault_name(of.param); });
INSTANTIATE_TEST_SUITE_P(Faults, StateFaultsIn,
                         testing::Combine(kStateFaults, testing::ValuesIn(swept_runs())),
                         [](const auto& of) {
                           return state_fault_name(std::get<0>(of.param)) +
                                  std::get<1>(of.param).name;
                         });

TEST_P(StateFaultsIn, ARun) {
  const SweptRun& swept = std::get<1>(GetParam());
  begin({"--protection", swept.is_protected ? "passphrase" : "none"});
  put_file(file(1), noise(250'000, 7));
  fs::remove(file(2));
  BackupOptions options;
  options.kind = swept.kind;
  RunReport told;
  at_many_calls(
      fault_stride(7 * swept.stride_factor), [&] { told = run_once(options); },
      [&] {
        bool sealed = sets().contains(swept.set);
        EXPECT_TRUE(sealed || told.exit > 1) << "a run said that it is done";
        expect_every_point();
        expect_another_day();
      });
}

// Two sets are sealed one after the other under the fault, as a differential and as a full set.
// Its stretches are noted in this PC's state while it is stored.
TEST_P(StateFaults, ALargeFileThatChanged) {
  begin({"--protection", "none"});
  ASSERT_NO_FATAL_FAILURE(change_a_large_file(1'800'000));
  at_many_calls(
      fault_stride(60), [&] { run_once(); }, [&] { expect_another_day(); });
}

TEST_P(StateFaults, DifferentialsAndTheNextChain) {
  begin({"--protection", "none", "--kind", "differential", "--new-full", "after 2 differentials"});
  put_file(file(3), noise(10'000, 8));
  at_many_calls(
      fault_stride(23),
      [&] {
        run_once();
        run_once();
      },
      [&] {
        fs::remove(file(4));
        expect_another_day();
        put_file(file(4), noise(30'000, 4));
      });
}

}  // namespace
}  // namespace kestrum::test
