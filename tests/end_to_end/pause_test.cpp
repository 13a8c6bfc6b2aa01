// A run that waits where it is while the PC is needed, and goes on.
#include <gtest/gtest.h>
#include <unistd.h>

#include <csignal>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

class Paused : public testing::Test {
 protected:
  void SetUp() override {
    put_file(desk.source() + "/noise", noise(6'000'000, 1));
    desk.define({"--protection", "none"});
    std::string path = desk.folder / "home/jobs/desk.toml";
    put_file(path, read_file(path) + "\n[effort]\nlimit = \"1 MB/s\"\n");
  }
  std::uint64_t on_disk() {
    Ran ran = run_program({"du", "-sb", desk.disk()});
    return std::stoull(ran.out);
  }
  bool running() { return !desk.json({"status", "desk"})["jobs"][0]["running"].is_null(); }
  Desk desk;
};

TEST_F(Paused, WritesNothingUntilItGoesOnAndIsWholeThen) {
  Background run({KESTRUM_PROGRAM, "run", "desk", "--quiet"}, desk.environment);
  ASSERT_TRUE(eventually([&] { return on_disk() > 1'500'000; })) << run.output();
  Ran told = desk.kestrum({"stop", "desk", "--pause"});
  EXPECT_EQ(told.exit, 0);
  EXPECT_NE(told.out.find("kestrum run desk"), std::string::npos) << told.out;
  // What was under way when it was told is written still; then nothing is.
  EXPECT_TRUE(eventually(
      [&] {
        std::uint64_t before = on_disk();
        ::usleep(1'200'000);
        return on_disk() == before;
      },
      60));
  EXPECT_LT(on_disk(), 6'000'000U);
  EXPECT_TRUE(running());
  Json resumed = desk.json({"run", "desk"});
  EXPECT_EQ(resumed["resumed"], Json::array({"desk"}));
  Ran ran = run.wait();
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
  EXPECT_EQ(desk.json({"sets", "desk"})["chains"][0]["sets"].size(), 1U);
}

TEST_F(Paused, IsStoppedInOrderAsWell) {
  Background run({KESTRUM_PROGRAM, "run", "desk", "--quiet"}, desk.environment);
  ASSERT_TRUE(eventually([&] { return on_disk() > 1'000'000; })) << run.output();
  ASSERT_EQ(desk.kestrum({"stop", "desk", "--pause"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"stop", "desk"}).exit, 0);
  EXPECT_EQ(run.wait().exit, 130);
}

TEST_F(Paused, IsForgottenByTheRunAfterAKill) {
  {
    Background run({KESTRUM_PROGRAM, "run", "desk", "--quiet"}, desk.environment);
    ASSERT_TRUE(eventually([&] { return on_disk() > 1'000'000; })) << run.output();
    ASSERT_EQ(desk.kestrum({"stop", "desk", "--pause"}).exit, 0);
    run.signal(SIGKILL);
    run.wait();
  }
  EXPECT_EQ(desk.json({"run", "desk"})["runs"][0]["outcome"], "done");
  EXPECT_EQ(desk.kestrum({"stop", "desk", "--pause"}).exit, 0);  // of nothing
  EXPECT_EQ(desk.json({"run", "desk"})["runs"][0]["outcome"], "done");
}

}  // namespace
}  // namespace kestrum::test
