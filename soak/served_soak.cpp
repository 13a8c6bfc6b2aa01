// The same against a server behind a proxy that delays, breaks connections and lets nobody through:
// random edits, runs, kills, restarts of the server, pruning, another PC that reads meanwhile, lost
// indexes, against a model that remembers the whole tree at every restore point. Any difference
// ends it with the seed.
//
// The seed chooses the server: SFTP, WebDAV by nginx or by Apache, FTPS.
//
//   KESTRUM_SOAK_MINUTES (1)   KESTRUM_SOAK_SEED (random)
#include <gtest/gtest.h>
#include <signal.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cstdio>
#include <filesystem>
#include <iostream>
#include <iterator>
#include <map>
#include <memory>
#include <random>
#include <set>

#include "history.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/file.h"
#include "kestrum/chain/set_id.h"
#include "kestrum/job/edit_key.h"
#include "support/large_files.h"
#include "support/served_desk.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class ServedSoak : public testing::Test, protected ServedDesk {
 protected:
  void SetUp() override {
    seed = history_seed();
    constexpr std::array<ServerKind, 5> kKinds = {ServerKind::kSftp, ServerKind::kNginx,
                                                  ServerKind::kSftp, ServerKind::kApache,
                                                  ServerKind::kFtps};
    kind = kKinds.at(seed % kKinds.size());
    if (std::string why = Server::why_not(kind); !why.empty()) GTEST_SKIP() << why;
    std::printf("seed %llu, %s\n", static_cast<unsigned long long>(seed), name_of(kind).c_str());
    random.seed(seed);
    start(kind, true);
    fs::create_directory(desk.source() + "/tree");
    tree = std::make_unique<TreeMaker>(desk.source() + "/tree", static_cast<unsigned>(seed));
    tree->grow(60);
    large = std::make_unique<LargeFiles>(desk.source() + "/large", static_cast<unsigned>(seed),
                                         LargeFiles::Limits{2, 1'500'000});
    is_protected = seed % 2 == 0;
    if (!is_protected) desk.environment["KESTRUM_PASSPHRASE"] = "";
    define({"--protection", is_protected ? "passphrase" : "none", "--part-size", "400 kB",
            "--new-full", "after 4 incrementals", "--keep-for", "0 days", "--keep-chains", "2"});
    std::string job = desk.folder / "home/jobs/desk.toml";
    std::string text = edit_key(read_file(job), "report.suspect_above", std::string("100%"));
    write_file(job, edit_key(text, "source.stretches_above", std::string("1 MB")));
  }

  unsigned below(unsigned limit) { return static_cast<unsigned>(random() % limit); }
  Ran call(std::vector<std::string> words) { return desk.kestrum(words); }

  void edit() {
    tree->change(1 + static_cast<int>(below(6)));
    if (below(2) == 0) large->edit();
    put_file(desk.source() + "/big-" + std::to_string(below(6)) + ".bin",
             noise(100'000 + below(700'000), static_cast<unsigned>(random())));
    ++counts["edits"];
  }

  // What the way to the server does while something is under way.
  void disturb() {
    switch (below(6)) {
      case 0:
        proxy->tell("cut " + std::to_string(20'000 + below(2'000'000)));
        ++counts["ways that break again and again"];
        break;
      case 1:
        proxy->tell("cut-once " + std::to_string(below(1'500'000)));
        proxy->tell("drop");
        ++counts["ways that break once"];
        break;
      case 2:
        proxy->tell("down-at " + std::to_string(1 + below(1'500'000)));
        ++counts["ways that end"];
        break;
      case 3:
        proxy->tell("delay " + std::to_string(1 + below(8)));
        ++counts["long ways"];
        break;
      case 4:
        if (kind == ServerKind::kNginx || kind == ServerKind::kApache) {
          constexpr std::array<int, 4> kAnswers = {500, 503, 507, 401};
          proxy->tell("drop");
          proxy->tell("answer " + std::to_string(kAnswers.at(below(kAnswers.size()))) + " " +
                      std::to_string(1 + below(3)));
          ++counts["answers that refuse"];
        }
        break;
      default:
        break;
    }
  }
  void calm() {
    for (const char* line : {"cut 0", "cut-once 0", "delay 0", "answer 500 0", "up"}) {
      proxy->tell(line);
    }
  }

  std::set<std::string> sets() {
    std::set<std::string> there;
    Json found = desk.json({"sets", "--shelf", shelf()});
    for (const Json& chain : found["chains"]) {
      for (const Json& set : chain["sets"]) there.insert(set["set"]);
    }
    return there;
  }
  // A set that was not there before holds what the source holds now; what was pruned may be gone.
  void learn(const Tree& now) {
    std::set<std::string> there = sets();
    for (const std::string& set : there) model.try_emplace(set, now);
    forget_pruned(there);
  }
  // What is gone was of a chain that may go: the two newest are kept.
  void forget_pruned(const std::set<std::string>& there) {
    auto chain_of = [](const std::string& set) { return SetId::parse(set)->chain; };
    std::uint32_t newest = 0;
    for (const std::string& set : there) newest = std::max(newest, chain_of(set));
    for (auto it = model.begin(); it != model.end();) {
      bool gone = !there.contains(it->first);
      if (gone) {
        ASSERT_LT(chain_of(it->first) + 1, newest) << it->first << " is not there any more";
      }
      it = gone ? model.erase(it) : std::next(it);
    }
  }

  void run() {
    Tree now = tree_of(desk.source());
    std::vector<std::string> words = desk.program;
    words.insert(words.end(), {"run", "desk"});
    if (below(10) == 0) words.insert(words.end(), {"--kind", "full"});
    disturb();
    bool killed = below(3) == 0, restarts = !killed && below(8) == 0;
    Background under_way(words, desk.environment);
    if (killed) {
      ::usleep(below(900'000));
      under_way.signal(below(3) == 0 ? SIGTERM : SIGKILL);
    } else if (restarts) {
      ::usleep(below(500'000));
      server->stop();
      server->start();
      ++counts["restarts of the server"];
    } else if (below(3) == 0) {
      read_beside();
    }
    // A way that ended is there again after a while.
    bool ended = eventually([&] { return under_way.has_ended(); }, killed ? 30 : 4);
    if (!ended) calm();
    Ran ran = under_way.wait();
    calm();
    bool known_end =
        ran.exit == 0 || ran.exit == 1 || ran.exit == 5 || ran.exit == 6 || ran.exit == 3 ||
        (killed && (ran.exit == 130 || ran.exit == 128 + SIGKILL || ran.exit == 128 + SIGTERM));
    ASSERT_TRUE(known_end) << ran.exit << "\n" << ran.out << ran.err;
    if (ran.exit == 3) std::cout << "a run failed: " << ran.out << ran.err << std::endl;
    ++counts[killed ? "kills and stops" : "runs that ended with " + std::to_string(ran.exit)];
    if (ran.err.find("is gone on with") != std::string::npos) ++counts["runs gone on with"];
    learn(now);
  }

  // A PC that has never seen the shelf, while this one writes: it finds what is sealed.
  void read_beside() {
    if (model.empty()) return;
    std::string home = desk.environment["KESTRUM_HOME"];
    std::string other = desk.folder / "other-home";
    fs::create_directories(other);
    if (path_exists(home + "/places.toml")) {
      fs::copy_file(home + "/places.toml", other + "/places.toml",
                    fs::copy_options::overwrite_existing);
    }
    desk.environment["KESTRUM_HOME"] = other;
    Ran ran = call({"sets", "--shelf", shelf(), "--json"});
    desk.environment["KESTRUM_HOME"] = home;
    ASSERT_TRUE(ran.exit == 0 || ran.exit == 5 || ran.exit == 3 || ran.exit == 6)
        << ran.exit << ran.out << ran.err;
    ++counts["readers beside writers"];
  }

  void restore_one() {
    if (model.empty()) return;
    auto point = std::next(model.begin(), below(static_cast<unsigned>(model.size())));
    std::string to = desk.folder / "back";
    fs::remove_all(to);
    if (below(3) == 0) proxy->tell("cut " + std::to_string(300'000 + below(1'000'000)));
    Ran ran = call(
        {"restore", "--shelf", shelf(), "--point", point->first, "--to", to, "--layout", "full"});
    calm();
    ASSERT_EQ(ran.exit, 0) << point->first << "\n" << ran.out << ran.err;
    ASSERT_EQ(difference(point->second, tree_of(to + desk.source())), "") << point->first;
    ++counts["restores compared"];
    counts["files compared"] += point->second.size();
  }

  void verify() {
    Ran ran = call({"verify", "--shelf", shelf(), "--contents"});
    ASSERT_EQ(ran.exit, 0) << ran.out << ran.err;
    ++counts["verifies"];
  }
  void prune() {
    Ran ran = call({"prune", "desk"});
    ASSERT_TRUE(ran.exit == 0 || ran.exit == 1) << ran.out << ran.err;
    forget_pruned(sets());
    ++counts["prunes"];
  }
  void lose_index() {
    for (const auto& name : list_folder(desk.folder / "home/state")) {
      std::string index = desk.folder / ("home/state/" + name + "/index.sqlite");
      if (path_exists(index)) fs::remove(index);
    }
    ++counts["lost indexes"];
  }

  ServerKind kind = ServerKind::kSftp;
  bool is_protected = false;
  std::uint64_t seed = 0;
  std::mt19937_64 random;
  std::unique_ptr<TreeMaker> tree;
  std::unique_ptr<LargeFiles> large;
  std::map<std::string, Tree> model;  // by set
  std::map<std::string, std::uint64_t> counts;
};

TEST_F(ServedSoak, EveryRestorePointStaysWhatItWas) {
  Nanos end = history_end();
  while (steady_now() < end && !HasFailure()) {
    unsigned what = below(100);
    if (what < 30) {
      edit();
    } else if (what < 72) {
      run();
    } else if (what < 75) {
      prune();
    } else if (what < 76) {
      lose_index();
    } else if (what < 96) {
      restore_one();
    } else {
      verify();
    }
  }
  tell_history(counts, seed, HasFailure());
  if (HasFailure() && server) std::printf("%s", server->log().c_str());
}

}  // namespace
}  // namespace kestrum::test
