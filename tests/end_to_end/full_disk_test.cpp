// A real filesystem of 64 MB and a job that needs 18 MB for a full set.
#include <gtest/gtest.h>

#include <filesystem>

#include "support/program.h"
#include "support/small_disk.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class FullDisk : public testing::Test {
 protected:
  FullDisk() {
    fs::create_directories(desk.disk());
    disk.emplace(desk.folder, desk.disk(), 64);
  }
  void SetUp() override {
    if (!disk->mounted()) GTEST_SKIP() << "cannot mount a filesystem here";
  }
  void TearDown() override {
    // Whatever happened: what is left is whole.
    if (disk->mounted()) {
      EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
    }
  }
  void define(const std::vector<std::string>& more) {
    on_day(0);
    std::vector<std::string> words = {"--protection", "none", "--when", "every day at 21:00"};
    words.insert(words.end(), more.begin(), more.end());
    desk.define(words);
  }
  void on_day(int day) { desk.on_day(day); }
  // All content is new, and none of it shrinks: 18 MB on the shelf.
  void write_all(unsigned seed) {
    for (unsigned i = 0; i < 18; ++i) {
      put_file(desk.source() + "/take-" + std::to_string(i) + ".wav",
               noise(1'000'000, seed * 100 + i));
    }
  }
  Json run(int day, int exit = 0) {
    on_day(day);
    return desk.json({"run", "desk"}, exit)["runs"][0];
  }
  std::vector<std::string> sets() {
    std::vector<std::string> names;
    Json chains = desk.json({"sets", "desk"})["chains"];
    for (const Json& chain : chains) {
      for (const Json& set : chain["sets"]) names.push_back(set["set"]);
    }
    return names;
  }
  void fill(std::uint64_t bytes) { put_file(desk.disk() + "/other", noise(bytes, 99)); }

  Desk desk;
  std::optional<SmallDisk> disk;
};

TEST_F(FullDisk, IsPrunedBeforeARunThatWouldNotFit) {
  define({"--kind", "full", "--keep-for", "5 days"});
  for (int day = 0; day < 3; ++day) {
    write_all(static_cast<unsigned>(day));
    run(day);
  }
  ASSERT_EQ(sets(), (std::vector<std::string>{"c1-0", "c2-0", "c3-0"})) << "54 of 64 MB";
  write_all(10);
  on_day(10);
  Json forecast = desk.json({"forecast", "desk"});
  EXPECT_EQ(forecast["room"]["enough"], true) << "after pruning: " << forecast;
  Json made = run(10);
  EXPECT_EQ(made["pruned"], (Json{"c1-0", "c2-0", "c3-0"})) << "the last one once it is replaced";
  EXPECT_EQ(made["outcome"], "done");
  Ran log = desk.kestrum({"history", "desk", "--show", made["run"]});
  EXPECT_NE(log.out.find("pruned 2 sets first"), std::string::npos) << log.out;
}

TEST_F(FullDisk, AFullSetThatIsMerelyDueGivesWayToADependentOne) {
  define({"--new-full", "after 1 incremental", "--keep-for", "3650 days"});
  write_all(1);
  run(0);
  run(1);
  write_all(2);
  run(2);
  run(3);
  fill(10'000'000);  // 36 MB are taken, and a third full set does not fit
  for (int day = 4; day < 8; ++day) {
    put_file(desk.source() + "/take-0.wav", noise(1'000'000, static_cast<unsigned>(day)));
    Json made = run(day, 1);
    EXPECT_EQ(made["kind"], "incremental");
    EXPECT_EQ(made["outcome"], "done with warnings");
    std::string said = made["warnings"].dump();
    EXPECT_NE(said.find("does not fit"), std::string::npos) << said;
    EXPECT_NE(said.find(" short"), std::string::npos) << said;
  }
  EXPECT_EQ(sets().size(), 8U);
  Ran ran = desk.kestrum({"run", "desk", "--kind", "full"});
  EXPECT_EQ(ran.exit, 6) << "what was asked for by name is not replaced";
}

TEST_F(FullDisk, ThatIsTooSmallForTheJobIsSaidToBe) {
  define({"--keep-for", "3650 days"});
  for (unsigned i = 0; i < 5; ++i) {
    put_file(desk.source() + "/large-" + std::to_string(i), noise(16'000'000, i));
  }
  on_day(1);
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 6);
  EXPECT_NE(ran.err.find("too little for this job"), std::string::npos) << ran.out << ran.err;
}

TEST_F(FullDisk, IsPrunedInTheMiddleOfARunThatGoesOn) {
  define({"--kind", "full", "--keep-for", "5 days"});
  for (int day = 0; day < 2; ++day) {
    write_all(static_cast<unsigned>(day));
    run(day);
  }
  // By sizes and times these are files that are held already, under new names; in truth none is.
  for (unsigned i = 0; i < 24; ++i) {
    std::string path = desk.source() + "/new-" + std::to_string(i) + ".wav";
    put_file(path, noise(1'000'000, 500 + i));
    fs::last_write_time(path, fs::last_write_time(desk.source() + "/take-0.wav"));
  }
  on_day(10);
  Json made = desk.json({"run", "desk", "--kind", "incremental"})["runs"][0];
  EXPECT_EQ(made["outcome"], "done") << made;
  EXPECT_EQ(made["set"], "c2-1") << made;
  EXPECT_EQ(made["files"]["copied"], 24) << made;
  EXPECT_EQ(made["pruned"], (Json{"c1-0"}));
  Ran log = desk.kestrum({"history", "desk", "--show", made["run"]});
  EXPECT_NE(log.out.find("the disk is full: pruned 1 set"), std::string::npos) << log.out;
  EXPECT_EQ(sets(), (std::vector<std::string>{"c2-0", "c2-1"}));
  fs::create_directories(desk.folder / "back");
  ASSERT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "back"}).exit, 0);
  EXPECT_EQ(difference(tree_of(desk.source()), tree_of(desk.folder / "back")), "");
}

TEST_F(FullDisk, EndsARunHonestlyWhenPromisesHoldEverything) {
  define({"--kind", "full", "--keep-for", "30 days"});
  for (int day = 0; day < 3; ++day) {
    write_all(static_cast<unsigned>(day));
    run(day);
  }
  write_all(9);
  on_day(3);
  Json forecast = desk.json({"forecast", "desk"}, 6);
  EXPECT_EQ(forecast["room"]["enough"], false);
  Json failed = run(3, 6);
  EXPECT_EQ(failed["outcome"], "failed");
  std::string reason = failed["reason"];
  EXPECT_NE(reason.find(" MB short; \"for = 30 days\" still needs chains 1 and 2"),
            std::string::npos)
      << reason;
  EXPECT_EQ(failed["pruned"], Json::array());
  EXPECT_EQ(sets(), (std::vector<std::string>{"c1-0", "c2-0", "c3-0"}));
  for (const auto& entry : fs::directory_iterator(desk.shelf() + "/sets")) {
    EXPECT_EQ(entry.path().string().find("unfinished"), std::string::npos)
        << "the room is given back";
  }
  // With room it goes on.
  EXPECT_EQ(desk.kestrum({"prune", "desk", "--to-free", "10 MB", "--break-promises"}).exit, 0);
  EXPECT_EQ(run(3)["outcome"], "done");
}

TEST_F(FullDisk, OfAnotherProgramsMakingCostsNoPromise) {
  define({"--kind", "full", "--keep-for", "30 days"});
  for (int day = 0; day < 2; ++day) {
    write_all(static_cast<unsigned>(day));
    run(day);
  }
  fill(20'000'000);
  write_all(9);
  Json failed = run(2, 6);
  EXPECT_EQ(failed["pruned"], Json::array());
  EXPECT_EQ(sets(), (std::vector<std::string>{"c1-0", "c2-0"}));
  fs::remove(desk.disk() + "/other");
  EXPECT_EQ(run(2)["outcome"], "done");
}

TEST_F(FullDisk, WithPruneDeeperGivesUpPromisesAndNamesWhatIsLost) {
  define({"--kind", "full", "--keep-for", "30 days", "--when-full", "prune deeper", "--leave-free",
          "off"});
  for (int day = 0; day < 3; ++day) {
    write_all(static_cast<unsigned>(day));
    EXPECT_EQ(run(day)["pruned"], Json::array()) << "no further than there is need";
  }
  write_all(9);
  Json made = run(3);
  EXPECT_EQ(made["outcome"], "done");
  EXPECT_EQ(made["pruned"], Json{"c1-0"});
  Ran log = desk.kestrum({"history", "desk", "--show", made["run"]});
  EXPECT_NE(log.out.find("restore point lost: c1-0 of "), std::string::npos) << log.out;
  EXPECT_NE(log.out.find("30 days are promised (for)"), std::string::npos) << log.out;
}

TEST_F(FullDisk, WithStopRemovesNothing) {
  define({"--kind", "full", "--keep-for", "1 day", "--when-full", "stop"});
  for (int day = 0; day < 3; ++day) {
    write_all(static_cast<unsigned>(day));
    run(day);
  }
  write_all(9);
  Json failed = run(20, 6);
  EXPECT_NE(failed["reason"].get<std::string>().find("when_full = stop"), std::string::npos);
  EXPECT_EQ(sets().size(), 3u);
}

TEST_F(FullDisk, IsForeseenBeforeTheFirstFullSet) {
  define({"--kind", "full", "--keep-for", "4 days"});
  write_all(1);
  Json forecast = desk.json({"forecast", "desk"});
  EXPECT_EQ(forecast["room"]["enough"], true) << "the first set fits";
  EXPECT_EQ(forecast["plan"]["fits"], false) << "the plan does not: " << forecast;
  EXPECT_EQ(forecast["plan"]["runs_until_full"], 3);
  EXPECT_GE(forecast["room"]["peak"].get<double>(), 5 * 18'000'000.0 * 0.9);
  EXPECT_EQ(forecast["plan"]["fulls_at_once"], 5);
}

}  // namespace
}  // namespace kestrum::test
