// The power is cut, or one call fails, at every single call to the disk: while a run writes and
// commits, while a set is removed, while the passphrase or the key changes, while a shelf is taken
// over. Only what was synced survives the cut. Whatever happens, every sealed set stays whole, the
// shelf opens, and the next attempt succeeds.
#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/crypto/age_header.h"
#include "kestrum/engine/adopt.h"
#include "kestrum/engine/backup.h"
#include "kestrum/engine/change_keys.h"
#include "kestrum/engine/prune.h"
#include "support/durable_disk.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using Fault = DurableDisk::Fault;

#if defined(__SANITIZE_THREAD__)
constexpr int kStride = 61;  // every call in turn takes too long here
#elif defined(__SANITIZE_ADDRESS__)
constexpr int kStride = 11;
#else
constexpr int kStride = 1;
#endif
constexpr int kCheapScrypt = 10;
constexpr const char* kOther = "another made-up passphrase";

void copy_tree(const std::string& from, const std::string& to) {
  fs::remove_all(to);
  fs::copy(from, to, fs::copy_options::recursive | fs::copy_options::copy_symlinks);
}

class CrashPoints : public testing::TestWithParam<Fault> {
 protected:
  void SetUp() override {
    crypto_start();
    set_scrypt_log_written(kCheapScrypt);
    ::setenv("KESTRUM_HOST", desk.environment["KESTRUM_HOST"].c_str(), 1);
    home = Home::find(desk.folder / "home");
    put_file(desk.source() + "/rota.csv", "monday,presenter\n");
    for (int i = 0; i < 6; ++i) {
      put_file(desk.source() + "/file-" + std::to_string(i),
               noise(60'000, static_cast<unsigned>(i)));
    }
  }
  void TearDown() override {
    set_place_opener({});
    set_scrypt_log_written(kScryptLogWritten);
  }
  Secret secret(const std::string& text) { return Secret{std::string_view(text)}; }
  std::string passphrase() { return desk.environment["KESTRUM_PASSPHRASE"]; }

  // A job with two sets, its identity wrapped cheaply. What follows begins here each time.
  void begin(const std::vector<std::string>& words) {
    std::vector<std::string> all = {"--part-size", "100 kB"};
    all.insert(all.end(), words.begin(), words.end());
    desk.define(all);
    if (job().encrypted) {
      OpenShelf open = find_shelf(MachineState(home), job());
      IdentityFile identity = unlock_shelf(open, secret(passphrase()));
      rewrap_identity(open, identity, secret(passphrase()), {});
    }
    run_once();
    put_file(desk.source() + "/file-0", noise(50'000, 50));
    run_once();
  }
  void remember() {
    copy_tree(desk.folder / "home", desk.folder / "home-before");
    copy_tree(desk.disk(), desk.folder / "disk-before");
  }
  void put_back() {
    copy_tree(desk.folder / "home-before", desk.folder / "home");
    copy_tree(desk.folder / "disk-before", desk.disk());
  }
  Job job() { return JobStore(home).load("desk"); }
  RunReport run_once() {
    RunReport report;
    Observer quiet;
    BackupOptions options;
    options.passphrase = [&] { return std::optional(secret(passphrase())); };
    run_backup(MachineState(home), job(), read_file(JobStore(home).path("desk")), options, Clock(),
               quiet, report);
    return report;
  }

  // Does `act` again and again from the same beginning, with the fault at each call in turn, and
  // has `check` look at what is left.
  void at_every_call(const std::function<void()>& act, const std::function<void()>& check) {
    remember();
    int call = 0;
    for (bool reached = true; reached; call += kStride) {
      put_back();
      DurableDisk disk(desk.shelf());
      set_place_opener([&](const std::string& folder) -> std::shared_ptr<Place> {
        if (folder == desk.shelf()) return disk.place();
        return std::make_shared<LocalPlace>(folder);
      });
      disk.fail_at(call, GetParam());
      try {
        act();
      } catch (const Error&) {
        // Told to the user.
      }
      reached = disk.failed();
      set_place_opener({});
      if (GetParam() == Fault::kPowerCut) disk.cut_power();
      SCOPED_TRACE("the fault was at call " + std::to_string(call));
      check();
      if (testing::Test::HasFailure()) return;
    }
    EXPECT_GT(call, 10);
    RecordProperty("calls", call);
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
  void expect_run_and_restore() {
    RunReport report = run_once();
    EXPECT_EQ(report.exit, 0) << report.reason;
    expect_all_whole();
    std::string to = desk.folder / "back";
    EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", to, "--layout", "full"}).exit, 0);
    EXPECT_EQ(difference(tree_of(desk.source()), tree_of(to + desk.source())), "");
    fs::remove_all(to);
  }

  Desk desk;
  Home home;
};

INSTANTIATE_TEST_SUITE_P(Faults, CrashPoints, testing::Values(Fault::kOnce, Fault::kPowerCut),
                         [](const testing::TestParamInfo<Fault>& fault) {
                           return fault.param == Fault::kOnce ? "Once" : "PowerCut";
                         });

TEST_P(CrashPoints, ARun) {
  begin({"--protection", "none"});
  put_file(desk.source() + "/file-7", noise(250'000, 7));
  put_file(desk.source() + "/file-8", noise(50'000, 8));
  at_every_call([&] { run_once(); },
                [&] {
                  expect_all_whole();
                  expect_run_and_restore();
                });
}

TEST_P(CrashPoints, ARemoval) {
  begin({"--protection", "none", "--keep-for", "0 days", "--when-full", "stop"});
  ASSERT_EQ(desk.kestrum({"run", "desk", "--kind", "full"}).exit, 0);
  ASSERT_EQ(desk.json({"sets", "desk"})["chains"].size(), 2u);
  at_every_call(
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
      });
}

TEST_P(CrashPoints, AChangeOfPassphrase) {
  begin({});
  auto change = [&] {
    OpenShelf open = find_shelf(MachineState(home), job());
    IdentityFile identity = unlock_shelf(open, secret(passphrase()));
    rewrap_identity(open, identity, secret(kOther), {});
  };
  at_every_call(change, [&] {
    // One of the two opens it; which, nobody can say who was not told that it is done.
    std::string right = passphrase();
    bool old_opens = desk.kestrum({"passphrase", "desk", "--try"}).exit == 0;
    if (!old_opens) desk.environment["KESTRUM_PASSPHRASE"] = kOther;
    expect_sets_whole();
    change();
    desk.environment["KESTRUM_PASSPHRASE"] = kOther;
    expect_run_and_restore();
    desk.environment["KESTRUM_PASSPHRASE"] = right;
  });
}

TEST_P(CrashPoints, AChangeOfKey) {
  begin({});
  auto change = [&] {
    OpenShelf open = find_shelf(MachineState(home), job());
    IdentityFile identity = unlock_shelf(open, secret(passphrase()));
    start_new_key(open, std::move(identity), secret(passphrase()), {});
  };
  at_every_call(change, [&] {
    expect_sets_whole();
    EXPECT_EQ(run_once().exit, 0) << "with the old key or with the new one";
    change();
    expect_run_and_restore();
  });
}

TEST_P(CrashPoints, ATakingOver) {
  begin({});
  Home own = home;
  auto adopt = [&] {
    AdoptOptions options;
    options.shelf = desk.shelf();
    options.passphrase = [&] { return std::optional(secret(passphrase())); };
    Observer quiet;
    return adopt_shelf(Home::find(desk.folder / "new-home"), options, Clock(), quiet);
  };
  at_every_call(
      [&] {
        fs::remove_all(desk.folder / "new-home");
        adopt();
      },
      [&] {
        home = Home::find(desk.folder / "new-home");
        if (!JobStore(home).has("desk")) {
          Adopted adopted = adopt();
          EXPECT_FALSE(adopted.damaged);
          EXPECT_EQ(adopted.sets, 2u);
        }
        std::string old_home = std::exchange(desk.environment["KESTRUM_HOME"], home.config);
        expect_run_and_restore();
        desk.environment["KESTRUM_HOME"] = old_home;
        home = own;
      });
}

}  // namespace
}  // namespace kestrum::test
