// A damaged chain that a newer, whole one has replaced is let go of, when somebody asks for it.
#include <gtest/gtest.h>

#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

class PruneDamaged : public testing::Test {
 protected:
  void SetUp() override {
    desk.on_day(0);
    desk.define({"--protection", "none", "--new-full", "after 1 set", "--keep-for", "2 years"});
    run(0);
    run(1);
  }
  void run(int day) {
    desk.on_day(day);
    put_file(desk.source() + "/day.txt", std::to_string(day));
    EXPECT_LE(desk.kestrum({"run", "desk"}).exit, 1);
  }
  void damage(const std::string& set) {
    std::string part = desk.set_folder(set) + "/part-000001.tar.zst";
    put_file(part, std::string(read_file(part).size(), 'x'));
    EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 4);
  }
  std::set<std::string> left() {
    std::set<std::string> names;
    Json sets = Json::parse(desk.kestrum({"sets", "desk", "--json"}).out);
    for (const Json& chain : sets["chains"]) {
      for (const Json& set : chain["sets"]) names.insert(set["set"].get<std::string>());
    }
    return names;
  }
  Ran prune(std::vector<std::string> more = {"--yes"}) {
    more.insert(more.begin(), {"prune", "desk", "--damaged"});
    return desk.kestrum(more);
  }
  Desk desk;
};
using SetNames = std::set<std::string>;

TEST_F(PruneDamaged, TakesTheChainOnceAWholeOneHasFollowed) {
  damage("c1-0");
  EXPECT_EQ(prune().exit, 0);
  EXPECT_EQ(left(), (SetNames{"c1-0", "c1-1"})) << "nothing has replaced it";
  run(2);
  run(3);
  EXPECT_EQ(prune({"--rehearse"}).exit, 0);
  EXPECT_EQ(prune({}).exit, 2) << "nobody is there to be asked";
  EXPECT_EQ(left().size(), 4u);
  Ran ran = prune();
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_NE(ran.out.find("restore points lost"), std::string::npos)
      << "they were promised: " << ran.out;
  EXPECT_EQ(left(), (SetNames{"c2-0", "c2-1"}));
  EXPECT_EQ(desk.json({"status", "desk"})["jobs"][0]["damage"], Json::array());
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
  run(4);
}

TEST_F(PruneDamaged, TakesNoWholeChainAndNotTheNewest) {
  run(2);
  run(3);
  damage("c2-0");
  EXPECT_EQ(prune().exit, 0);
  EXPECT_EQ(left(), (SetNames{"c1-0", "c1-1", "c2-0", "c2-1"}));
}

TEST_F(PruneDamaged, TakesNothingWhileASuspectSetIsThere) {
  for (int i = 0; i < 30; ++i) put_file(desk.source() + "/f" + std::to_string(i), "a");
  run(2);
  run(3);
  damage("c1-0");
  for (int i = 0; i < 30; ++i) put_file(desk.source() + "/f" + std::to_string(i), "b");
  run(4);
  std::size_t before = left().size();
  EXPECT_NE(prune().out.find("suspect"), std::string::npos);
  EXPECT_EQ(left().size(), before);
}

TEST_F(PruneDamaged, DoesNotGoWithOtherWaysToPrune) {
  EXPECT_EQ(prune({"--break-promises"}).exit, 2);
  EXPECT_EQ(prune({"--to-free", "1 GB"}).exit, 2);
}

}  // namespace
}  // namespace kestrum::test
