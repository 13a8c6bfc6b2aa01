// The PC's own disk fails, is full, or the process is killed, at every single call that a run makes
// to its state. Whatever happens, the index claims nothing that the ledgers do not say, every
// restore point comes back as it was, by this PC and by the shelf alone, and the next run goes on.
#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>

#include "kestrum/access/rebuild_index.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/place/local_place.h"
#include "kestrum/place/open_place.h"
#include "support/durable_disk.h"
#include "support/engine_desk.h"
#include "support/faulty_state.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using StateFault = FaultyState::Fault;

// Every call in turn takes minutes: KESTRUM_FAULT_STRIDE=1 does it.
int stride(int usual) {
#if defined(__SANITIZE_THREAD__) || defined(__SANITIZE_ADDRESS__)
  usual *= 4;
#endif
  const char* given = std::getenv("KESTRUM_FAULT_STRIDE");
  return given == nullptr ? usual : std::atoi(given);
}

class StateFaults : public EngineDesk, public testing::TestWithParam<StateFault> {
 protected:
  std::string file(int i) { return desk.source() + "/file-" + std::to_string(i); }

  void begin(const std::vector<std::string>& more) {
    for (int i = 0; i < 6; ++i) put_file(file(i), noise(30'000, static_cast<unsigned>(i)));
    std::vector<std::string> words = {"--protection", "none", "--part-size", "100 kB"};
    words.insert(words.end(), more.begin(), more.end());
    desk.define(words);
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
        state.fail_at(call, GetParam());
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
};

INSTANTIATE_TEST_SUITE_P(Faults, StateFaults,
                         testing::Values(StateFault::kOnce, StateFault::kFull, StateFault::kKill),
                         [](const testing::TestParamInfo<StateFault>& fault) {
                           return fault.param == StateFault::kOnce   ? "Once"
                                  : fault.param == StateFault::kFull ? "Full"
                                                                     : "Kill";
                         });

TEST_P(StateFaults, ARun) {
  begin({});
  put_file(file(1), noise(250'000, 7));
  fs::remove(file(2));
  RunReport told;
  at_many_calls(
      stride(7), [&] { told = run_once(); },
      [&] {
        bool sealed = sets().contains("c1-2");
        EXPECT_TRUE(sealed || told.exit > 1) << "a run said that it is done";
        expect_every_point();
        expect_another_day();
      });
}

// Two sets are sealed one after the other under the fault, as a differential and as a full set.
TEST_P(StateFaults, DifferentialsAndTheNextChain) {
  begin({"--kind", "differential", "--new-full", "after 2 differentials"});
  put_file(file(3), noise(10'000, 8));
  at_many_calls(
      stride(23),
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
