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

// What a later version keeps on this PC is not read as something else, and not replaced.
TEST(StateOfALaterVersion, IsRefusedAndStays) {
  Desk desk;
  desk.define({"--protection", "none"});
  put_file(desk.source() + "/file", "1");
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string id = Json::parse(read_file(desk.shelf() + "/shelf.json"))["shelf"];
  std::string state = desk.folder / ("home/state/" + id);
  Json pin = Json::parse(read_file(state + "/pin.json"));
  std::string before = pin.dump();
  pin["version"] = 9;
  pin["something"] = "new";
  put_file(state + "/pin.json", pin.dump());
  for (const std::vector<std::string>& words :
       std::vector<std::vector<std::string>>{{"run", "desk"},
                                             {"look", "desk"},
                                             {"prune", "desk"},
                                             {"status"},
                                             {"shelf", "claim", desk.shelf()}}) {
    Ran ran = desk.kestrum(words);
    EXPECT_EQ(ran.exit, 3) << words[0] << ran.out << ran.err;
    EXPECT_NE(ran.err.find("pin.json"), std::string::npos) << words[0] << ran.err;
    EXPECT_NE(ran.err.find("newer than this program"), std::string::npos) << words[0] << ran.err;
    EXPECT_EQ(read_file(state + "/pin.json"), pin.dump()) << words[0];
  }
  put_file(state + "/pin.json", before);
  SQLite::Database(state + "/index.sqlite", SQLite::OPEN_READWRITE).exec("PRAGMA user_version=99");
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 3) << ran.err;
  EXPECT_NE(ran.err.find("later version"), std::string::npos) << ran.err;
  EXPECT_EQ(SQLite::Database(state + "/index.sqlite").execAndGet("PRAGMA user_version").getInt(),
            99);
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "out"}).exit, 0)
      << "the ledgers are read";
}

}  // namespace
}  // namespace kestrum::test
