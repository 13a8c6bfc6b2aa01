// `kestrum run --stay`: follows the schedule and what changes, by the real clock.
#include <gtest/gtest.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include <csignal>
#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/job/job_store.h"
#include "kestrum/machine/schedule_book.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Stay : public testing::Test {
 protected:
  void define(const std::string& phrase = "when files change, at most every 1 minute") {
    put_file(desk.source() + "/file.txt", "one");
    desk.define({"--protection", "none", "--when", phrase});
  }
  std::vector<Json> sets() {
    std::vector<Json> all;
    Json chains = desk.json({"sets", "desk"})["chains"];
    for (const Json& chain : chains)
      all.insert(all.end(), chain["sets"].begin(), chain["sets"].end());
    return all;
  }
  std::unique_ptr<Background> stay() {
    return std::make_unique<Background>(std::vector<std::string>{KESTRUM_PROGRAM, "run", "--stay"},
                                        desk.environment);
  }
  Desk desk;
};

TEST_F(Stay, AChangeMakesASetOnceItIsQuiet) {
  define();
  auto running = stay();
  ASSERT_TRUE(eventually([&] { return sets().size() == 1; })) << running->output();
  EXPECT_NE(desk.kestrum({"run", "--stay"}).exit, 0) << "one is enough";
  EXPECT_EQ(desk.kestrum({"run", "--due"}).exit, 0) << "which a timer may still call";
  Nanos stopped = real_now();
  running->signal(SIGTERM);
  EXPECT_EQ(running->wait().exit, 0);
  EXPECT_LT(real_now() - stopped, 20 * kSecond);

  // What changed while nobody watched is found at the start; what did not makes no set.
  put_file(desk.source() + "/late.txt", "two");
  running = stay();
  ASSERT_TRUE(eventually([&] { return sets().size() == 2; })) << running->output();
  running->signal(SIGINT);
  running->wait();
  ::usleep(2'100'000);  // past the tick in which a file may change unseen
  desk.kestrum({"run", "desk"});
  running = stay();
  ::sleep(8);
  EXPECT_EQ(sets().size(), 3u);
  put_file(desk.source() + "/.cache/litter", "x");
  put_file(desk.source() + "/new/deep/file.txt", "three");
  ASSERT_TRUE(eventually([&] { return sets().size() == 4; })) << running->output();
  // The set is there before the run's record is.
  auto history = [&] { return desk.json({"history", "desk"})["runs"]; };
  ASSERT_TRUE(eventually([&] { return history().size() == 4; })) << running->output();
  Json run = history().back();
  EXPECT_EQ(run["kind"], "incremental");
  EXPECT_EQ(run["trigger"], "files changed");
  EXPECT_EQ(run["files"]["copied"], 1);
  running->signal(SIGTERM);
  running->wait();
}

TEST_F(Stay, FiftyThousandChangesMakeOneSetThatHoldsThemAll) {
  define();
  auto running = stay();
  ASSERT_TRUE(eventually([&] { return sets().size() == 1; })) << running->output();
  running->signal(SIGTERM);
  running->wait();
  running = stay();
  ::sleep(1);
  // Files in folders that come while it watches, half of them gone again.
  run_script(
      "cd '" + desk.source() +
      "'; for d in $(seq 125); do mkdir -p b$d; (cd b$d; touch $(seq 200); rm $(seq 100)); done");
  ASSERT_TRUE(eventually([&] { return sets().size() == 2; }, 90)) << running->output();
  running->signal(SIGTERM);
  running->wait();
  desk.kestrum({"restore", "desk", "--to", desk.folder / "back"});
  EXPECT_EQ(difference(tree_of(desk.source()), tree_of(desk.folder / "back")), "");
}

TEST_F(Stay, RunsWhatFallsDueAndWaitsForADisk) {
  define("every day at 00:00");
  // As if the job had been looked at last the day before yesterday.
  Home home{desk.folder / "home", desk.folder / "home/state"};
  Job job = JobStore(home).load("desk");
  ScheduleBook(MachineState(home)).update("desk", [&](ScheduleState& state) {
    state.when = phrases_text(job);
    state.settled = real_now() - 2 * kDay;
  });
  fs::rename(desk.disk(), desk.disk() + "-away");
  auto running = stay();
  auto status = [&] { return desk.json({"status", "desk"})["jobs"][0]; };
  ASSERT_TRUE(eventually([&] { return !status()["waiting_since"].is_null(); }))
      << running->output();
  fs::rename(desk.disk() + "-away", desk.disk());
  ASSERT_TRUE(eventually([&] { return sets().size() == 1; }, 90)) << running->output();
  running->signal(SIGTERM);
  running->wait();
}

// When it looks instead, ChangeTimer says.
TEST_F(Stay, SaysWhereTooFewWatchesMakeItLookInstead) {
  for (int i = 0; i < 20; ++i) put_file(desk.source() + "/d" + std::to_string(i) + "/file", "one");
  desk.define({"--protection", "none", "--when", "when files change, at most every 1 minute"});
  // A user namespace has a limit of its own.
  std::string limited = "echo 5 >/proc/sys/user/max_inotify_watches && exec " +
                        shell_quoted(KESTRUM_PROGRAM) + " run --stay";
  if (run_program({"unshare", "-Ur", "sh", "-c", "echo 5 >/proc/sys/user/max_inotify_watches"})
          .exit != 0) {
    GTEST_SKIP() << "no user namespaces here";
  }
  Background running({"unshare", "-Ur", "sh", "-c", limited}, desk.environment);
  ASSERT_TRUE(eventually([&] { return sets().size() == 1; })) << running.output();
  EXPECT_NE(running.output().find("allows only"), std::string::npos) << running.output();
  running.signal(SIGTERM);
  running.wait();
}

TEST_F(Stay, ReadersBesideARunLoseNothingOfWhatItRemembers) {
  put_file(desk.source() + "/file.txt", "one");
  desk.define({"--protection", "none"});
  std::string record;
  for (const auto& name : list_folder(desk.folder / "home/state")) {
    if (path_exists(desk.folder / ("home/state/" + name + "/pin.json"))) {
      record = desk.folder / ("home/state/" + name + "/pin.json");
    }
  }
  for (int round = 0; round < 5; ++round) {
    // Seen long ago, so that every reader writes it down.
    Json seen = Json::parse(read_file(record));
    seen["last_seen"] = 0;
    put_file(record, seen.dump(), 0600);
    std::vector<std::unique_ptr<Background>> readers;
    auto run = std::make_unique<Background>(
        std::vector<std::string>{KESTRUM_PROGRAM, "run", "desk"}, desk.environment);
    for (int i = 0; i < 6; ++i) {
      readers.push_back(std::make_unique<Background>(
          std::vector<std::string>{KESTRUM_PROGRAM, "sets", "desk"}, desk.environment));
    }
    EXPECT_EQ(run->wait().exit, 0);
    for (auto& reader : readers) EXPECT_EQ(reader->wait().exit, 0);
    EXPECT_EQ(Json::parse(read_file(record))["newest_set"], "c1-" + std::to_string(round));
  }
}

TEST_F(Stay, TellsSystemdWhenItIsReady) {
  define("every day at 21:00");
  std::string path = desk.folder / "notify";
  Fd server(::socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC, 0));
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  path.copy(address.sun_path, sizeof address.sun_path - 1);
  ASSERT_EQ(::bind(server.get(), reinterpret_cast<sockaddr*>(&address), sizeof address), 0);
  desk.environment["NOTIFY_SOCKET"] = path;
  auto running = stay();
  std::string told;
  auto listen = [&](const std::string& word) {
    return eventually([&] {
      char text[4096];
      ssize_t n = ::recv(server.get(), text, sizeof text, MSG_DONTWAIT);
      if (n > 0) told.append(text, static_cast<std::size_t>(n)) += "\n";
      return told.find(word) != std::string::npos;
    });
  };
  EXPECT_TRUE(listen("READY=1")) << told;
  running->signal(SIGTERM);
  EXPECT_TRUE(listen("STOPPING=1")) << told;
  running->wait();
}

}  // namespace
}  // namespace kestrum::test
