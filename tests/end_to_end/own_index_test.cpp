// What a PC remembers of its sets is held against their ledgers by `verify --contents`.
#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class OwnIndex : public testing::TestWithParam<const char*> {
 protected:
  std::string path() {
    for (const auto& entry : fs::recursive_directory_iterator(desk.folder / "home/state")) {
      if (entry.path().filename() == "index.sqlite") return entry.path();
    }
    return "";
  }
  Json check(int exit) { return desk.json({"verify", "desk", "--contents"}, exit)["index"]; }
  Desk desk;
};

INSTANTIATE_TEST_SUITE_P(Changes, OwnIndex,
                         testing::Values("UPDATE version SET digest = zeroblob(32) WHERE id = 7",
                                         "UPDATE version SET mtime = mtime + 1 WHERE id = 7",
                                         "UPDATE version SET until = NULL WHERE until IS NOT NULL",
                                         "DELETE FROM version WHERE id = 7",
                                         "UPDATE version SET first = first + 1 WHERE id = 7",
                                         "UPDATE location SET tar_offset = tar_offset + 512",
                                         "UPDATE sets SET lines = lines + 1",
                                         "UPDATE owner SET uid = uid + 1"));

TEST_P(OwnIndex, ThatIsNotWhatTheLedgersSayIsToldAndReadAnew) {
  desk.on_day(0);
  desk.define({"--protection", "none", "--kind", "differential"});
  TreeMaker tree(desk.source(), 5);
  tree.grow(90);
  for (int day = 0; day < 5; ++day) {
    desk.on_day(day);
    ASSERT_LE(desk.kestrum({"run", "desk"}).exit, 1);
    tree.change(3);
  }
  ASSERT_LE(desk.kestrum({"run", "desk", "--kind", "full"}).exit, 1);
  EXPECT_EQ(check(0)["differences"], Json::array());
  SQLite::Database(path(), SQLite::OPEN_READWRITE).exec(GetParam());
  Json found = check(1);
  EXPECT_GE(found["differences"].size(), 1U);
  EXPECT_EQ(found["made_anew"], true);
  EXPECT_EQ(check(0)["differences"], Json::array());
  for (const auto& entry : fs::directory_iterator(parent_of(path()))) {
    EXPECT_EQ(entry.path().string().find(".check-"), std::string::npos) << "nothing is left over";
  }
  EXPECT_EQ(desk.json({"run", "desk"})["runs"][0]["kind"], "differential") << "it goes on";
}

}  // namespace
}  // namespace kestrum::test
