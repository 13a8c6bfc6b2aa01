// A verify by itself gives way to whatever asks it to, and comes to its end all the same.
#include "kestrum/inspect/due_verify.h"

#include <gtest/gtest.h>

#include <memory>

#include "kestrum/access/find_shelf.h"
#include "kestrum/base/file.h"
#include "support/engine_desk.h"

namespace kestrum::test {
namespace {

class DueVerify : public EngineDesk, public testing::Test {
 protected:
  void SetUp() override {
    desk.define({"--protection", "none", "--part-size", "1 MB"});
    put_file(desk.source() + "/large", noise(9'500'000, 1));
    run_once();
  }
  // As the next look at what is due has it: nothing is kept but what is on the disks.
  DueVerifyResult verify(unsigned percent, const StopRequest& stop) {
    MachineState state = machine();
    OpenShelf open = find_shelf(state, job());
    DueVerifyRequest request{percent, {}, stop};
    Observer nobody;
    return verify_when_due(open, request, nobody);
  }
  // A run falls due each time so much was asked.
  static StopRequest after(int questions) {
    auto asked = std::make_shared<int>(0);
    return [asked, questions] { return ++*asked > questions; };
  }
  ShelfRecord record() {
    MachineState state = machine();
    return find_shelf(state, job()).state->record;
  }
  void damage(const std::string& file) {
    std::string path = desk.set_folder("c1-0") + "/" + file, bytes = read_file(path);
    bytes[bytes.size() / 2] ^= 1;
    write_file(path, bytes);
  }
};

TEST_F(DueVerify, OfTheWholeThatAlwaysGivesWayComesToItsEnd) {
  int cuts = 0;
  while (verify(100, after(8)).stopped) {
    ASSERT_EQ(record().verified.when, 0) << "not all of it was read";
    ASSERT_LT(++cuts, 30);
  }
  EXPECT_GT(cuts, 2);
  EXPECT_NE(record().verified.when, 0);
  EXPECT_GE(record().verified.parts, 10U);
  EXPECT_EQ(record().verified.damaged, 0U);
  // The next is a look at the whole again.
  DueVerifyResult whole = verify(100, {});
  EXPECT_FALSE(whole.stopped);
  EXPECT_NE(whole.words.find("1 set, "), std::string::npos) << whole.words;
  EXPECT_EQ(record().verify_round.began, 0);
}

TEST_F(DueVerify, ThatGivesWayForgetsNoDamage) {
  damage("part-000002.tar.zst");
  damage("part-000009.tar.zst");
  std::size_t found = 0;
  int cuts = 0;
  for (;;) {
    DueVerifyResult result = verify(100, after(8));
    found += result.damaged;
    if (!result.stopped) break;
    ASSERT_LT(++cuts, 30);
  }
  EXPECT_EQ(found, 2U);
  EXPECT_EQ(record().damage.size(), 2U);
  EXPECT_EQ(record().verified.damaged, 2U);
}

// A cut of the power lets nothing be remembered at the end.
TEST_F(DueVerify, ThatWasCutOffIsGoneOnWithInParts) {
  struct PowerCut {};
  auto asked = std::make_shared<int>(0);
  auto cut = [asked]() -> bool {
    if (++*asked > 6) throw PowerCut();
    return false;
  };
  EXPECT_THROW(verify(100, cut), PowerCut);
  EXPECT_NE(record().verify_round.began, 0);
  DueVerifyResult result = verify(100, {});
  EXPECT_FALSE(result.stopped);
  EXPECT_NE(result.words.find(" of "), std::string::npos) << result.words;
  EXPECT_NE(record().verified.when, 0);
  EXPECT_EQ(record().verify_round.began, 0);
}

TEST_F(DueVerify, OfAPartReadsThatMuchAndNoMore) {
  DueVerifyResult result = verify(30, {});
  EXPECT_FALSE(result.stopped);
  EXPECT_EQ(record().verified.when, 0);
  result = verify(30, after(2));
  EXPECT_TRUE(result.stopped);
  int more = 0;
  while (record().verified.when == 0) {
    verify(30, {});
    ASSERT_LT(++more, 6);
  }
}

}  // namespace
}  // namespace kestrum::test
