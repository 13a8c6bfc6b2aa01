// SIGKILL at any moment: every sealed set stays whole, and the next run finishes.
#include <gtest/gtest.h>
#include <signal.h>
#include <unistd.h>

#include <filesystem>
#include <random>

#include "kestrum/base/file.h"
#include "kestrum/job/edit_key.h"
#include "kestrum/job/job_store.h"
#include "support/engine_desk.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
constexpr int kKills = 15;  // everything is slower here
#else
constexpr int kKills = 100;
#endif

TEST(Crash, KilledAtRandomMomentsNoSetIsLostAndTheNextRunFinishes) {
  Desk desk;
  std::mt19937 random(20261123);
  TreeMaker tree(desk.source(), 7);
  tree.grow(150);
  for (int i = 0; i < 12; ++i) {
    put_file(desk.source() + "/big-" + std::to_string(i) + ".bin",
             noise(400'000, static_cast<unsigned>(i)));
  }
  desk.define({"--protection", "none", "--part-size", "500 kB", "--new-full",
               "after 4 incrementals", "--keep-for", "0 days", "--keep-chains", "2"});
  std::string job = desk.folder / "home/jobs/desk.toml";  // the edits are wild, and meant
  write_file(job, edit_key(read_file(job), "report.suspect_above", std::string("100%")));
  Home home = Home::find(desk.folder / "home");
  int attempts = 0, sealed = 0, killed = 0, continued = 0;
  useconds_t longest = 150'000;  // of a whole run, in microseconds; learnt below
  while (killed < kKills) {
    tree.change(3);
    put_file(desk.source() + "/big-" + std::to_string(random() % 12) + ".bin",
             noise(300'000 + random() % 300'000, static_cast<unsigned>(random())));
    {
      Background run({KESTRUM_PROGRAM, "run", "desk", "--quiet"}, desk.environment);
      ::usleep(static_cast<useconds_t>(random() % longest));
      run.signal(SIGKILL);
      bool finished = run.wait().exit != 128 + SIGKILL;
      killed += !finished;
      if (finished) longest = std::max<useconds_t>(20'000, longest * 9 / 10);
      if (!finished && random() % 8 == 0) longest = longest * 11 / 10;
    }
    for (const auto& text : index_differences(home, desk.shelf())) {
      ADD_FAILURE() << text << " after kill " << killed;
    }
    // What is sealed is whole, whatever lies beside it.
    Json sets = desk.json({"sets", "desk"});
    if (!sets["chains"].empty() && random() % 3 == 0) {
      ASSERT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0) << "after kill " << killed;
    }
    if (++attempts % 6 != 0) continue;
    // One that is left alone finishes, and gives back what is there now.
    Json report = desk.json({"run", "desk", "--accept-empty"})["runs"][0];
    ++sealed;
    continued += report["continued"].get<bool>();
    ASSERT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0) << "after kill " << killed;
    std::string to = desk.folder / "back";
    ASSERT_EQ(desk.kestrum({"restore", "desk", "--to", to, "--layout", "full"}).exit, 0);
    ASSERT_EQ(difference(tree_of(desk.source()), tree_of(to + desk.source())), "")
        << "after kill " << killed;
    fs::remove_all(to);
  }
  EXPECT_GE(killed, kKills);
  EXPECT_GE(sealed, kKills / 6);
  RecordProperty("continued", continued);  // how many is left to chance
  for (const auto& name : list_folder(desk.shelf() + "/sets")) {
    // Begun, or being removed, by the run that was killed last.
    if (name.ends_with(".unfinished") || name.ends_with(".removing")) continue;
    EXPECT_TRUE(path_exists(desk.shelf() + "/sets/" + name + "/seal.json")) << name;
  }
}

}  // namespace
}  // namespace kestrum::test
