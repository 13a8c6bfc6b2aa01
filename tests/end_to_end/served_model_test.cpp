// Wherever in a run the way to a server ends, and however the run ends then: whatever is sealed
// comes back as the files were, nothing is called damaged that is not, and the next run goes on.
#include <gtest/gtest.h>
#include <signal.h>

#include <filesystem>
#include <map>
#include <set>
#include <sstream>
#include <vector>

#include "support/program.h"
#include "support/servers.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class ServedModel : public testing::TestWithParam<ServerKind> {
 protected:
  void SetUp() override {
    if (std::string why = Server::why_not(GetParam()); !why.empty()) GTEST_SKIP() << why;
    server = std::make_unique<Server>(GetParam());
    proxy = std::make_unique<Proxy>(server->port());
    server->introduce(desk, proxy.get());
    Ran ran = desk.kestrum({"job", "new", "desk", "--from", desk.source(), "--to",
                            server->place(proxy.get()), "--protection", "none", "--part-size",
                            "100 kB", "--new-full", "after 3 sets", "--keep-for", "100 days"});
    ASSERT_EQ(ran.exit, 0) << ran.err;
  }
  // Some files are new, one is another, one goes.
  void change() {
    ++changes;
    auto name = [](int n) { return "/file-" + std::to_string(n); };
    for (int i = 0; i < 3; ++i) {
      put_file(desk.source() + name(3 * changes + i),
               noise(60'000, static_cast<unsigned>(10 * changes + i)));
    }
    put_file(desk.source() + "/same-name", noise(50'000, static_cast<unsigned>(changes)));
    if (changes > 4) fs::remove(desk.source() + name(3 * (changes - 4)));
  }
  // Whatever is sealed and was not known holds what the source holds now.
  void learn() {
    Json sets = desk.json({"sets", "desk"});
    std::set<std::string> there;
    for (const Json& chain : sets["chains"]) {
      for (const Json& set : chain["sets"]) {
        there.insert(set["set"]);
        model.try_emplace(set["set"], tree_of(desk.source()));
      }
    }
    for (const auto& point : model) EXPECT_TRUE(there.contains(point.first)) << point.first;
  }
  void expect_points(bool all) {
    EXPECT_EQ(desk.json({"verify", "desk", "--contents"})["damage"], Json::array());
    for (auto it = all ? model.begin() : std::prev(model.end()); it != model.end(); ++it) {
      std::string to = desk.folder / "back";
      fs::create_directories(to);
      Ran ran = desk.kestrum({"restore", "desk", "--point", it->first, "--to", to, "--everything"});
      EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
      EXPECT_EQ(difference(it->second, tree_of(to)), "") << it->first;
      fs::remove_all(to);
    }
  }
  long counted_upwards() {
    std::istringstream counted(proxy->tell("counted"));
    long connections = 0, up = 0;
    counted >> connections >> up;
    return up;
  }
  // Makes the first set. Gives how many bytes of what a run sends lie before each place of a sample
  // at which the way is to end.
  std::vector<long> first_run(long sample) {
    change();
    counted_upwards();
    EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
    learn();
    long all = counted_upwards();
    const char* said = std::getenv("KESTRUM_CUT_STRIDE");
    long stride = said == nullptr ? all / sample : std::atol(said);
    std::vector<long> places;
    for (long at = stride / 2; at < all; at += stride) places.push_back(at);
    return places;
  }

  Desk desk;
  std::unique_ptr<Server> server;
  std::unique_ptr<Proxy> proxy;
  std::map<std::string, Tree> model;
  int changes = 0;
};

TEST_P(ServedModel, WhereverTheWayEndsNothingIsLost) {
  int round = 0;
  for (long at : first_run(4)) {
    SCOPED_TRACE("cut at " + std::to_string(at));
    change();
    proxy->tell("down-at " + std::to_string(at));
    std::vector<std::string> words = desk.program;
    words.insert(words.end(), {"run", "desk"});
    Background run(words, desk.environment);
    ASSERT_TRUE(eventually([&] { return proxy->tell("is-down") == "yes" || run.has_ended(); }, 60))
        << run.output();
    // One is killed, the other asked to end.
    run.signal(round++ % 2 == 0 ? SIGKILL : SIGTERM);
    run.wait();
    proxy->tell("up");
    learn();
    expect_points(false);
    Ran ran = desk.kestrum({"run", "desk"});
    EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
    learn();
  }
  expect_points(true);
}

// The run itself goes on where its connection breaks.
TEST_P(ServedModel, WhereverAConnectionBreaksTheRunGoesOn) {
  for (long at : first_run(2)) {
    SCOPED_TRACE("cut at " + std::to_string(at));
    change();
    proxy->tell("cut-once " + std::to_string(at));
    Ran ran = desk.kestrum({"run", "desk"});
    EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
    proxy->tell("cut-once 0");
    learn();
    expect_points(false);
  }
  expect_points(true);
}

INSTANTIATE_TEST_SUITE_P(Servers, ServedModel,
                         testing::Values(ServerKind::kSftp, ServerKind::kNginx,
                                         ServerKind::kApache),
                         [](const auto& kind) { return name_of(kind.param); });

}  // namespace
}  // namespace kestrum::test
