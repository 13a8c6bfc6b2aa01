// Weeks of runs under a policy, and what pruning leaves of them.
#include <gtest/gtest.h>

#include <filesystem>
#include <random>
#include <set>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Pruning : public testing::Test {
 protected:
  void define(const std::vector<std::string>& more) {
    at(0);
    std::vector<std::string> words = {"--protection", "none", "--when", "every day at 21:00"};
    words.insert(words.end(), more.begin(), more.end());
    desk.define(words);
  }
  void at(int day) { desk.on_day(day); }
  Json run(int day, int exit = 0) {
    at(day);
    put_file(desk.source() + "/day.txt", std::to_string(day));
    return desk.json({"run", "desk"}, exit)["runs"][0];
  }
  std::set<std::string> sets() { return desk.sets(); }
  void key(const std::string& section, const std::string& line) {
    std::string path = desk.folder / "home/jobs/desk.toml";
    std::string text = read_file(path), title = "[" + section + "]\n";
    std::size_t at = text.find(title);
    put_file(path, at == std::string::npos ? text + "\n" + title + line + "\n"
                                           : text.insert(at + title.size(), line + "\n"));
  }
  std::string day_at(const std::string& moment_text) {
    std::string to = desk.folder / ("back-" + std::to_string(++restores_));
    Ran ran = desk.kestrum({"restore", "desk", "day.txt", "--point", moment_text, "--to", to});
    return ran.exit == 0 ? read_file(to + "/day.txt") : "exit " + std::to_string(ran.exit);
  }
  Desk desk;
  int restores_ = 0;
};

struct Policy {
  const char *kind, *new_full, *keep_for, *chains;
  int days_promised;
  const char* thin = "";
};

class Replay : public Pruning, public testing::WithParamInterface<Policy> {};

#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
constexpr int kReplayDays = 20;
#else
constexpr int kReplayDays = 50;
#endif

TEST_P(Replay, KeepsEveryPromisedDayAndNoMoreChainsThanItMust) {
  Policy policy = GetParam();
  define({"--kind", policy.kind, "--new-full", policy.new_full, "--keep-for", policy.keep_for,
          "--keep-chains", policy.chains});
  key("report", "suspect_above = \"100%\"");  // so few files: a day may take half of them
  if (*policy.thin != 0) key("keep", std::string("thin = [\"") + policy.thin + "\"]");
  TreeMaker tree(desk.source(), 5);
  tree.grow(25);
  std::map<std::string, Tree> model;  // by set
  std::mt19937 random(3);
  for (int day = 0; day < kReplayDays; ++day) {
    tree.change(3);
    Json made = run(day);
    model[made["set"]] = tree_of(desk.source());
    for (const Json& gone : made["pruned"]) model.erase(gone.get<std::string>());
    // Every promised day is there; some earlier restore point is as it was.
    std::set<std::string> left, days;
    Json chains = desk.json({"sets", "desk"})["chains"];
    for (const Json& chain : chains) {
      for (const Json& set : chain["sets"]) {
        left.insert(set["set"]);
        days.insert(set["taken"].get<std::string>().substr(0, 10));
      }
    }
    ASSERT_EQ(left.size(), model.size());
    for (int back = 0; back < std::min(day + 1, policy.days_promised); ++back) {
      at(day - back);
      ASSERT_TRUE(days.contains(desk.environment["KESTRUM_NOW"].substr(0, 10)))
          << "day " << day << " lacks " << back;
    }
    at(day);
    auto chosen = std::next(model.begin(), static_cast<long>(random() % model.size()));
    std::string to = desk.folder / ("restored" + std::to_string(day));
    ASSERT_EQ(desk.kestrum({"restore", "desk", "--point", chosen->first, "--to", to}).exit, 0);
    ASSERT_EQ(difference(chosen->second, tree_of(to)), "") << chosen->first << " on day " << day;
    fs::remove_all(to);
  }
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
  EXPECT_LT(model.size(), 39u) << "something was pruned";
  EXPECT_TRUE(desk.json({"prune", "desk", "--rehearse"})["removed"].empty())
      << "and nothing is left to do";
}

INSTANTIATE_TEST_SUITE_P(
    Policies, Replay,
    testing::Values(Policy{"incremental", "after 6 incrementals", "10 days", "1", 10},
                    Policy{"differential", "after 4 differentials", "5 days", "2", 5},
                    Policy{"incremental", "every sunday", "3 days", "1", 3},
                    Policy{"full", "never", "4 days", "1", 4},
                    Policy{"incremental", "after 4 incrementals", "4 days", "1", 4,
                           "one a week for 5 weeks"}));

TEST_F(Pruning, ARehearsalSaysWhatGoesAndRemovesNothing) {
  define({"--new-full", "after 1 incrementals", "--keep-for", "2 days", "--when-full", "stop"});
  for (int day = 0; day < 7; ++day)
    EXPECT_TRUE(run(day)["pruned"].empty()) << "stop: nothing by itself";
  std::set<std::string> before = sets();
  Json rehearsed = desk.json({"prune", "desk", "--rehearse"});
  EXPECT_EQ(sets(), before);
  EXPECT_EQ(rehearsed["removed"].size(), 4u);
  Json pruned = desk.json({"prune", "desk"});
  EXPECT_EQ(pruned["removed"], rehearsed["removed"]);
  EXPECT_EQ(pruned["removed"][0]["set"], "c1-1") << "the last of a chain first";
  EXPECT_EQ(sets(), (std::set<std::string>{"c3-0", "c3-1", "c4-0"}));
  EXPECT_EQ(desk.kestrum({"look", "desk", "--point", "c1-0"}).exit, 9)
      << "what is gone is not offered";
  EXPECT_EQ(run(7)["set"], "c4-1") << "and the chain goes on";
}

TEST_F(Pruning, ARemovalThatWasInterruptedIsFinished) {
  define({"--new-full", "after 1 incrementals", "--keep-for", "1 day", "--when-full", "stop"});
  for (int day = 0; day < 5; ++day) run(day);
  std::string folder = desk.set_folder("c1-1");
  fs::rename(folder, folder + ".removing");
  fs::remove(folder + ".removing/seal.json");
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 0) << "it is no set any more";
  EXPECT_EQ(run(5)["outcome"], "done");
  EXPECT_FALSE(path_exists(folder + ".removing"));
  EXPECT_EQ(desk.kestrum({"look", "desk", "--point", "c1-1"}).exit, 9);
  EXPECT_EQ(day_at("c1-0"), "0");
}

TEST_F(Pruning, PromisesAreBrokenOnlyWhenToldAndNoFurtherThanWanted) {
  define({"--new-full", "after 1 incrementals", "--keep-for", "30 days", "--keep-chains", "3"});
  put_file(desk.source() + "/noise", noise(300'000, 1));
  for (int day = 0; day < 8; ++day) run(day);
  EXPECT_EQ(sets().size(), 8u);
  Ran ran = desk.kestrum({"prune", "desk", "--to-free", "500 kB"});
  EXPECT_EQ(ran.exit, 6);
  EXPECT_NE(ran.out.find("30 days are promised (for)"), std::string::npos) << ran.out;
  EXPECT_EQ(sets().size(), 8u);
  Json broken = desk.json({"prune", "desk", "--to-free", "500 kB", "--break-promises"});
  EXPECT_GE(broken["freed"].get<int>(), 500'000);
  EXPECT_EQ(sets(), (std::set<std::string>{"c3-0", "c3-1", "c4-0", "c4-1"}));
  EXPECT_EQ(
      desk.json({"prune", "desk", "--to-free", "100 GB", "--break-promises"}, 6)["removed"].size(),
      2u);
  EXPECT_EQ(sets(), (std::set<std::string>{"c4-0", "c4-1"}))
      << "the newest complete chain never goes";
  EXPECT_EQ(day_at("newest"), "7");
}

TEST_F(Pruning, AClockThatMakesNoSenseRemovesNothing) {
  define({"--new-full", "after 1 incrementals", "--keep-for", "2 days"});
  for (int day = 0; day < 4; ++day) run(day);
  EXPECT_EQ(sets().size(), 2u);
  for (int day : {5000, 5001, 5002}) EXPECT_TRUE(run(day)["pruned"].empty());
  EXPECT_EQ(sets().size(), 5u);
  Ran ran = desk.kestrum({"prune", "desk"});
  EXPECT_NE(ran.out.find("the clock may be wrong"), std::string::npos) << ran.out;
  EXPECT_EQ(sets().size(), 5u);
  // Back in its own time, and somebody has looked.
  EXPECT_TRUE(run(5)["pruned"].empty());
  EXPECT_EQ(desk.kestrum({"prune", "desk", "--clock-is-right"}).exit, 0);
  run(6);
  EXPECT_LE(sets().size(), 5u);
  EXPECT_EQ(day_at("newest"), "6");
}

TEST_F(Pruning, ADamagedSetIsNeverRemoved) {
  define({"--new-full", "after 1 incrementals", "--keep-for", "1 day"});
  run(0);
  run(1);
  put_file(desk.set_folder("c1-0") + "/seal.json", "nonsense");
  for (int day = 2; day < 4; ++day) EXPECT_TRUE(run(day, 1)["pruned"].empty());
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 4);
  for (int day = 4; day < 8; ++day) run(day);
  EXPECT_LT(list_folder(desk.shelf() + "/sets").size(), 8u) << "the other chains are pruned again";
  std::size_t damaged = 0;
  for (const auto& name : list_folder(desk.shelf() + "/sets"))
    damaged += name.starts_with("c0001-000");
  EXPECT_EQ(damaged, 1u);
}

TEST_F(Pruning, FilesThatCouldNotBeReadKeepTheChainThatHasThem) {
  if (::geteuid() != 0) GTEST_SKIP() << "needs root to mount a folder";
  fs::create_directories(desk.folder / "share");
  if (run_program({"mount", "-t", "tmpfs", "tmpfs", desk.folder / "share"}).exit != 0)
    GTEST_SKIP() << "cannot mount";
  put_file(desk.folder / "share/file", "x");
  define({"--new-full", "after 1 incrementals", "--keep-for", "1 day", "--from",
          desk.folder / "share"});
  run(0);
  run_program({"umount", desk.folder / "share"});
  // Fulls that are asked for lack the share; the chain that has it stays, however old.
  for (int day = 1; day < 6; ++day) {
    at(day);
    desk.kestrum({"run", "desk", "--kind", "full"});
  }
  EXPECT_TRUE(sets().contains("c1-0"));
  EXPECT_EQ(day_at("c1-0"), "0");
  // A file that somebody puts there meanwhile is no sign of the disk.
  put_file(desk.folder / "share/file", "another");
  at(6);
  desk.kestrum({"run", "desk", "--kind", "full"});
  EXPECT_TRUE(sets().contains("c1-0"));
  // Once the disk is back and in a full set, or somebody lets go of it, the chain may go.
  EXPECT_EQ(desk.kestrum({"trust", "desk", "--gone-for-good", desk.folder / "share", "--because",
                          "the share was given up"})
                .exit,
            0);
  for (int day = 7; day < 10; ++day) {
    at(day);
    desk.kestrum({"run", "desk", "--kind", "full"});
  }
  EXPECT_FALSE(sets().contains("c1-0"));
}

TEST_F(Pruning, UnwiseRulesAreWarnedOfAndUsedAllTheSame) {
  define({});
  std::string path = desk.folder / "home/jobs/desk.toml", text = read_file(path);
  for (auto [lines, word] :
       {std::pair{"[chain]\nnew_full = \"never\"", "chain.new_full: \"never\" ends no chain"},
        {"[chain]\nnew_full = \"after 6 differentials\"", "counts another kind"},
        {"[chain]\nkind = \"full\"\nnew_full = \"every sunday\"", "every set is full"},
        {"[keep]\nthin = [\"one a day for 7 days\"]", "has no effect"},
        {"[keep]\nat_most = \"5 GB\"\n[destination]\nplaces = [\"/x\"]\nwhen_full = \"stop\"",
         "nothing acts on it"}}) {
    std::string rest = std::string(lines).find("[destination]") == std::string::npos
                           ? text
                           : text.substr(0, text.find("[destination]"));
    put_file(path, rest + "\n" + lines + "\n");
    Ran check = desk.kestrum({"job", "check", "desk"});
    EXPECT_EQ(check.exit, 1) << lines;
    EXPECT_NE(check.out.find(word), std::string::npos) << check.out;
  }
  put_file(path, text + "\n[chain]\nnew_full = \"never\"\n");
  EXPECT_EQ(run(0)["outcome"], "done");
  put_file(path, text + "\n[chain]\nnew_full = \"after 0 incrementals\"\n");
  EXPECT_EQ(desk.kestrum({"job", "check", "desk"}).exit, 2);
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 2);
}

TEST_F(Pruning, BadRulesAreNamed) {
  define({});
  std::string path = desk.folder / "home/jobs/desk.toml", text = read_file(path);
  for (auto [line, word] : {std::pair{"for = \"-3 days\"", "keep.for"},
                            {"for = \"14\"", "keep.for"},
                            {"chains = 0", "keep.chains"},
                            {"thin = [\"one a fortnight for 8 fortnights\"]", "keep.thin"},
                            {"at_most = \"big\"", "keep.at_most"},
                            {"leave_free = \"500%\"", "keep.leave_free"}}) {
    put_file(path, text + "\n[keep]\n" + line + "\n");
    for (const char* command : {"check", "run"}) {
      Ran ran = std::string(command) == "run" ? desk.kestrum({"run", "desk"})
                                              : desk.kestrum({"job", "check", "desk"});
      EXPECT_EQ(ran.exit, 2) << line;
      EXPECT_NE((ran.out + ran.err).find(word), std::string::npos) << ran.out << ran.err;
    }
  }
}

}  // namespace
}  // namespace kestrum::test
