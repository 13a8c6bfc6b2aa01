// Servers that do not let an account do everything: what holds there all the same.
#include <signal.h>

#include "kestrum/base/file.h"
#include "support/cut_run.h"
#include "support/served_desk.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class LimitedServer : public OnAServer {};

// What attacks the PC cannot remove a set. Replacing a file, leftovers and pruning do without.
TEST_P(LimitedServer, MayBeOneWhereNothingCanBeRemoved) {
  start(GetParam(), false, Server::Allows::kNoRemoval);
  desk.on_day(0);
  define({"--protection", "none", "--new-full", "after 1 sets", "--keep-for", "1 days",
          "--keep-chains", "1", "--part-size", "100 kB"});
  std::map<std::string, Tree> trees;
  constexpr int kRuns = 5;
  for (int i = 0; i < kRuns; ++i) {
    desk.on_day(3 * i);
    fill(i);
    if (i == 2) {  // what a run that did not finish left
      std::string left = list_folder(shelf_here() + "/sets").front();
      left.replace(0, 5, "c0009");
      fs::create_directories(shelf_here() + "/sets/" + left + ".unfinished");
      put_file(shelf_here() + "/sets/" + left + ".unfinished/part-0001.tar.zst", "some", 0666);
      run_script("chown -R --reference " + server->folder() + " " + shelf_here() + "/sets/" + left +
                 ".unfinished");
    }
    Ran ran = desk.kestrum({"run", "desk", "--json"});
    Json run = Json::parse(ran.out)["runs"][0];
    ASSERT_TRUE(run["set"].is_string()) << run.dump(1) << server->log();
    EXPECT_EQ(run["exit"], i < 2 ? 0 : 1) << run.dump(1);
    EXPECT_EQ(run["pruned"], Json::array());
    if (i >= 2) {
      EXPECT_NE(run["warnings"].dump().find("may not remove anything"), std::string::npos);
    }
    trees[run["set"].get<std::string>()] = tree_of(desk.source());
  }
  EXPECT_EQ(trees.size(), std::size_t{kRuns});
  EXPECT_EQ(desk.json({"verify", "desk", "--contents"})["damage"], Json::array());
  for (const auto& [set, tree] : trees) expect_point(set, tree);
  Json pruned = desk.json({"prune", "desk"});
  EXPECT_EQ(pruned["removed"], Json::array());
  EXPECT_EQ(run_program({KESTRUM_PROGRAM, "shelf", "erase", "desk", "--on", place},
                        desk.environment, "desk\n")
                .exit,
            3);
  EXPECT_EQ(desk.json({"verify", "desk"})["damage"], Json::array());
}

// A set is one by its seal: where no folder and no file can be renamed, it keeps the name that it
// was begun under.
TEST_P(LimitedServer, MayBeOneWhereNothingCanBeRenamed) {
  start(GetParam(), false, Server::Allows::kNoRename);
  desk.on_day(0);
  define({"--new-full", "after 1 sets", "--keep-for", "1 days", "--keep-chains", "1", "--part-size",
          "100 kB"});
  std::map<std::string, Tree> trees;
  for (int i = 0; i < 4; ++i) {
    desk.on_day(3 * i);
    fill(i);
    Json run = desk.json({"run", "desk"})["runs"][0];
    ASSERT_TRUE(run["set"].is_string()) << run.dump(1) << server->log();
    trees[run["set"].get<std::string>()] = tree_of(desk.source());
  }
  std::set<std::string> there = desk.sets();
  EXPECT_EQ(there, (std::set<std::string>{"c2-0", "c2-1"})) << "what no promise holds is gone";
  for (const std::string& folder : list_folder(shelf_here() + "/sets")) {
    EXPECT_TRUE(folder.ends_with(".unfinished")) << folder;
  }
  for (const std::string& set : there) expect_point(set, trees[set]);
  EXPECT_EQ(desk.json({"verify", "desk", "--contents"})["damage"], Json::array());
  // What a run left that was killed is gone on with, or goes.
  put_file(desk.source() + "/large", noise(3'000'000, 77));
  cut_run(desk, "500 kB/s", 2, SIGKILL);
  desk.on_day(13);
  Json run = desk.json({"run", "desk"})["runs"][0];
  EXPECT_EQ(run["continued"], true) << run.dump(1);
  expect_point(run["set"], tree_of(desk.source()));
  // The passphrase is changed, file by file.
  desk.environment["KESTRUM_NEXT_PASSPHRASE"] = "another one by now";
  Ran ran = desk.kestrum({"passphrase", "desk"});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  desk.environment["KESTRUM_PASSPHRASE"] = "another one by now";
  EXPECT_EQ(desk.json({"verify", "desk", "--contents"})["damage"], Json::array());
}

INSTANTIATE_TEST_SUITE_P(Servers, LimitedServer,
                         testing::Values(ServerKind::kSftp, ServerKind::kNginx,
                                         ServerKind::kApache),
                         [](const auto& kind) { return name_of(kind.param); });

}  // namespace
}  // namespace kestrum::test
