// A copy of a shelf on another disk: whole or not there, read without the shelf, never written to
// by runs, and worth something when the shelf is lost.
#include <gtest/gtest.h>
#include <signal.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class ShelfCopy : public testing::Test {
 protected:
  void define(const std::vector<std::string>& more = {"--protection", "none"}) {
    std::vector<std::string> words = {"--part-size", "100 kB"};
    words.insert(words.end(), more.begin(), more.end());
    desk.define(words);
    fs::create_directories(second());
  }
  void fill(int seed) {
    for (int i = 0; i < 6; ++i) {
      put_file(desk.source() + "/file-" + std::to_string(seed) + "-" + std::to_string(i),
               noise(40'000, static_cast<unsigned>(seed * 100 + i)));
    }
  }
  void run_of(int seed) {
    fill(seed);
    Ran ran = desk.kestrum({"run", "desk"});
    ASSERT_LE(ran.exit, 1) << ran.err;
    trees.push_back(tree_of(desk.source()));
  }
  std::string second() const { return desk.folder / "second"; }
  std::string copy_of_shelf() const { return second() + "/test-pc/desk"; }
  Json copy(int exit = 0, const std::vector<std::string>& more = {}) {
    std::vector<std::string> words = {"shelf", "copy", "desk", "--to", second(), "--same-disk"};
    words.insert(words.end(), more.begin(), more.end());
    return desk.json(words, exit);
  }
  // The folders of the sets, whole or not, on a shelf.
  static std::vector<std::string> sets_in(const std::string& shelf) {
    return list_folder(shelf + "/sets");
  }
  // Whatever restore points the copy has come back from it alone as they were.
  void expect_copy_is_right(std::size_t sets, std::size_t others = 0) {
    Json verified = desk.json({"verify", "--shelf", copy_of_shelf()});
    EXPECT_EQ(verified["damage"], Json::array());
    EXPECT_EQ(verified["restorable"].size(), sets + others);
    fs::rename(desk.disk(), desk.folder / "lost");
    Desk elsewhere("elsewhere");
    if (!fs::exists(copy_of_shelf() + "/keys")) elsewhere.environment["KESTRUM_PASSPHRASE"] = "";
    for (std::size_t i = 0; i < sets; ++i) {
      std::string to = elsewhere.folder / ("back" + std::to_string(i));
      fs::create_directories(to);
      Ran ran = elsewhere.kestrum({"restore", "--shelf", copy_of_shelf(), "--point",
                                   "c1-" + std::to_string(i), "--to", to, "--everything"});
      EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
      EXPECT_EQ(difference(trees[i], tree_of(to)), "") << i;
    }
    fs::rename(desk.folder / "lost", desk.disk());
  }
  Desk desk;
  std::vector<Tree> trees;
  std::string secret;
};

TEST_F(ShelfCopy, HasEverySetAndIsReadWithoutTheShelf) {
  define({"--protection", "passphrase"});
  for (int i = 0; i < 3; ++i) run_of(i);
  desk.environment["KESTRUM_PASSPHRASE"].swap(secret);  // none is needed
  Json told = copy();
  EXPECT_EQ(told["copied"].size(), 3U);
  EXPECT_EQ(told["problems"], Json::array());
  EXPECT_EQ(Json::parse(read_file(copy_of_shelf() + "/shelf.json"))["copy_of"], desk.shelf());
  EXPECT_NE(read_file(desk.folder / "home/jobs/desk.toml").find(second()), std::string::npos);
  told = copy();
  EXPECT_EQ(told["copied"], Json::array());
  EXPECT_EQ(told["there"], 3);
  EXPECT_EQ(told["bytes"], 0);
  desk.environment["KESTRUM_PASSPHRASE"].swap(secret);
  run_of(3);
  EXPECT_EQ(copy()["copied"], Json::array({"c1-3"}));
  for (const std::string& set : sets_in(desk.shelf())) {
    for (const std::string& name : list_folder(desk.shelf() + "/sets/" + set)) {
      std::string path = "/sets/" + set + "/" + name;
      EXPECT_EQ(read_file(desk.shelf() + path), read_file(copy_of_shelf() + path)) << path;
    }
  }
  expect_copy_is_right(4);
}

TEST_F(ShelfCopy, GoesOnWhereverItWasKilled) {
  define();
  for (int i = 0; i < 3; ++i) run_of(i);
  desk.kestrum({"job", "set", "desk", "effort.limit", "400 kB/s"});  // so that it takes its time
  std::set<std::string> seen;
  for (int kills = 0; kills < 6; ++kills) {
    std::vector<std::string> words = desk.program;
    for (const char* word : {"shelf", "copy", "desk", "--same-disk", "--to"})
      words.emplace_back(word);
    words.push_back(second());
    Background background(words, desk.environment);
    // Until it is at a file that no copy before it came to.
    auto further = [&] {
      if (!fs::exists(copy_of_shelf() + "/sets")) return false;
      bool news = false;
      for (const auto& entry : fs::recursive_directory_iterator(copy_of_shelf() + "/sets")) {
        news |= seen.insert(entry.path().filename()).second;
      }
      return news;
    };
    EXPECT_TRUE(eventually(further)) << background.output();
    background.signal(SIGKILL);
    background.wait();
    if (!fs::exists(copy_of_shelf() + "/shelf.json")) continue;
    // What is there as a set is whole.
    Json verified = desk.json({"verify", "--shelf", copy_of_shelf()});
    EXPECT_EQ(verified["damage"], Json::array()) << kills;
  }
  desk.kestrum({"job", "set", "desk", "effort.limit", "off"});
  std::uint64_t stored = desk.json({"status", "desk"})["jobs"][0]["stored_bytes"];
  EXPECT_LT(copy()["bytes"].get<std::uint64_t>(), stored) << "some parts had been copied";
  EXPECT_EQ(sets_in(desk.shelf()), sets_in(copy_of_shelf()));
  expect_copy_is_right(3);
}

TEST_F(ShelfCopy, LosesNothingThatTheShelfLost) {
  define();
  for (int i = 0; i < 3; ++i) run_of(i);
  copy();
  for (const std::string& set : sets_in(desk.shelf())) {
    if (set.starts_with("c0001-00")) fs::remove_all(desk.shelf() + "/sets/" + set);
  }
  Ran ran = desk.kestrum({"shelf", "copy", "desk", "--to", second(), "--same-disk"});
  EXPECT_EQ(ran.exit, 4) << ran.out << ran.err;
  EXPECT_NE(ran.err.find("nothing was copied"), std::string::npos) << ran.err;
  expect_copy_is_right(3);
  // The next run begins anew; what the copy has stays beside that.
  ASSERT_LE(desk.kestrum({"run", "desk"}).exit, 1);
  ran = desk.kestrum({"shelf", "copy", "desk", "--to", second(), "--same-disk"});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_EQ(sets_in(copy_of_shelf()).size(), 4U);
  expect_copy_is_right(3, 1);
}

TEST_F(ShelfCopy, TakesNoDamagedSetAndNothingThatIsBasedOnOne) {
  define();
  for (int i = 0; i < 2; ++i) run_of(i);
  copy();
  for (int i = 2; i < 4; ++i) run_of(i);
  std::string part = desk.set_folder("c1-2") + "/part-000001.tar.zst", bytes = read_file(part);
  bytes[bytes.size() / 2] ^= 1;
  write_file(part, bytes);
  Json told = copy(4);
  EXPECT_EQ(told["copied"], Json::array());
  ASSERT_EQ(told["problems"].size(), 2U) << told.dump(2);
  EXPECT_EQ(told["problems"][0], "c1-2: part-000001.tar.zst is not what was written");
  expect_copy_is_right(2);
  bytes[bytes.size() / 2] ^= 1;
  write_file(part, bytes);
  EXPECT_EQ(copy()["copied"].size(), 2U);
  expect_copy_is_right(4);
}

TEST_F(ShelfCopy, KeepsItsKeysWhereTheShelfsAreDamaged) {
  define({"--protection", "passphrase"});
  run_of(0);
  copy();
  const std::string keys = read_file(copy_of_shelf() + "/keys/identity.age");
  for (const char* name : {"identity.age", "identity-copy.age"}) {
    write_file(desk.shelf() + "/keys/" + name, "encrypted by somebody\n");
  }
  copy(4);
  EXPECT_EQ(read_file(copy_of_shelf() + "/keys/identity.age"), keys);
  EXPECT_EQ(read_file(copy_of_shelf() + "/keys/identity-copy.age"), keys);
  expect_copy_is_right(1);
}

TEST_F(ShelfCopy, HasANewPassphraseOnceItIsBroughtUpToDate) {
  define({"--protection", "passphrase"});
  run_of(0);
  copy();
  std::string old = desk.environment["KESTRUM_PASSPHRASE"];
  desk.environment["KESTRUM_NEXT_PASSPHRASE"] = "another one of four words";
  ASSERT_EQ(desk.kestrum({"passphrase", "desk"}).exit, 0);
  copy();
  auto opens = [&](const std::string& passphrase) {
    Desk elsewhere("elsewhere");
    elsewhere.environment["KESTRUM_PASSPHRASE"] = passphrase;
    return elsewhere.kestrum({"look", "--shelf", copy_of_shelf()}).exit == 0;
  };
  EXPECT_TRUE(opens("another one of four words"));
  EXPECT_FALSE(opens(old));
}

TEST_F(ShelfCopy, IsNeverTakenForTheShelf) {
  define();
  run_of(0);
  copy();
  Tree before = tree_of(copy_of_shelf());
  fs::rename(desk.disk(), desk.folder / "drawer");
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 5);
  EXPECT_EQ(desk.kestrum({"prune", "desk"}).exit, 5);
  desk.kestrum({"job", "set", "desk", "destination.places", second()});
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 5);
  EXPECT_NE(ran.err.find("holds a copy of desk of test-pc, and not the shelf itself"),
            std::string::npos)
      << ran.err;
  EXPECT_NE(desk.kestrum({"shelf", "start", "desk", "--same-disk"}).exit, 0);
  EXPECT_EQ(difference(before, tree_of(copy_of_shelf())), "");
}

TEST_F(ShelfCopy, ThatIsBehindIsReadAndNeverCalledDamaged) {
  define();
  run_of(0);
  copy();
  run_of(1);
  std::string to = desk.folder / "behind";
  Ran ran = desk.kestrum({"restore", "--shelf", copy_of_shelf(), "--everything", "--to", to});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_NE(ran.err.find("a copy that is behind its shelf, which has c1-1"), std::string::npos)
      << ran.err;
  EXPECT_EQ(difference(trees[0], tree_of(to)), "");
  // Where the shelf is away, the copy is named, as it is in the list of what lies below a folder.
  fs::rename(desk.disk(), desk.folder / "drawer");
  ran = desk.kestrum({"restore", "desk", "--everything", "--to", to + "-again"});
  EXPECT_EQ(ran.exit, 5);
  EXPECT_NE(ran.err.find("--shelf " + copy_of_shelf()), std::string::npos) << ran.err;
  fs::rename(desk.folder / "drawer", desk.disk());
  Json fleet = desk.json({"status", "--shelves", desk.folder / "."});
  int shelves = 0;
  for (const Json& row : fleet["shelves"]) {
    if (row["host"].is_null()) continue;  // other folders there
    EXPECT_EQ(row["state"], "fine") << fleet.dump(2);
    ++shelves;
  }
  EXPECT_EQ(shelves, 2);
}

TEST_F(ShelfCopy, OfACopyOrOntoSomethingElseIsRefused) {
  define();
  run_of(0);
  auto refused = [&](const std::string& to, const std::string& why) {
    Ran ran = desk.kestrum({"shelf", "copy", "desk", "--to", to, "--same-disk"});
    EXPECT_EQ(ran.exit, 2) << ran.out << ran.err;
    EXPECT_NE(ran.err.find(why), std::string::npos) << ran.err;
  };
  refused(desk.disk(), "where the shelf itself lies");
  fs::create_directories(desk.source() + "/inside");
  refused(desk.source() + "/inside", "which is copied");
  EXPECT_EQ(desk.kestrum({"shelf", "copy", "desk", "--to", second()}).exit, 2) << "the same disk";
  fs::create_directories(desk.folder / "third");
  ASSERT_EQ(
      desk.kestrum({"job", "set", "desk", "destination.places", desk.disk(), desk.folder / "third"})
          .exit,
      0);
  ASSERT_EQ(
      desk.kestrum({"shelf", "start", "desk", "--at", desk.folder / "third", "--same-disk"}).exit,
      0);
  refused(desk.folder / "third", "lies there already");
  EXPECT_EQ(desk.kestrum({"shelf", "copy", "desk"}).exit, 2);
  EXPECT_EQ(desk.kestrum({"shelf", "copy", "desk", "--to", desk.folder / "not-there"}).exit, 5);
}

TEST_F(ShelfCopy, OfTheNewestChainIsThat) {
  define();
  run_of(0);
  run_of(1);
  ASSERT_LE(desk.kestrum({"run", "desk", "--kind", "full"}).exit, 1);
  run_of(2);
  EXPECT_EQ(copy(0, {"--newest-chain"})["copied"], Json::array({"c2-0", "c2-1"}));
  EXPECT_EQ(desk.json({"verify", "--shelf", copy_of_shelf()})["restorable"].size(), 2U);
}

TEST_F(ShelfCopy, OfALostShelfIsClaimedAndGoneOnWith) {
  define({"--protection", "passphrase"});
  run_of(0);
  run_of(1);
  copy();
  fs::remove_all(desk.disk());
  Desk new_pc("new-pc");
  Json claimed = new_pc.json(
      {"shelf", "claim", copy_of_shelf(), "--map", desk.source() + "=" + new_pc.source()});
  EXPECT_EQ(claimed["problems"], Json::array());
  EXPECT_EQ(claimed["sets"], 2);
  ASSERT_EQ(new_pc.kestrum({"restore", "desk", "--in-place", "--everything"}).exit, 0);
  EXPECT_EQ(difference(trees[1], tree_of(new_pc.source())), "");
  put_file(new_pc.source() + "/new", "n");
  Json run = new_pc.json({"run", "desk"})["runs"][0];
  EXPECT_EQ(run["set"], "c1-2") << run.dump(2);
  EXPECT_FALSE(Json::parse(read_file(copy_of_shelf() + "/shelf.json")).contains("copy_of"));
}

// Over five weeks: the copy has what the shelf has, by itself, and no more than the disk can bear.
TEST_F(ShelfCopy, IsMadeByItselfAndPrunedLikeItsShelf) {
  desk.on_day(0);
  define({"--protection", "none", "--when", "every day at 21:00"});
  for (const auto& [key, value] : std::vector<std::pair<std::string, std::string>>{
           {"keep.for", "4 days"}, {"chain.new_full", "after 4 sets"}}) {
    ASSERT_EQ(desk.kestrum({"job", "set", "desk", key, value}).exit, 0) << key;
  }
  fill(0);
  ASSERT_LE(desk.kestrum({"run", "--due"}).exit, 1);
  copy();
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "copies.when", "every day at 22:00"}).exit, 0);
  for (int day = 1; day < 35; ++day) {
    bool away = day >= 10 && day < 13;
    if (day == 10) {  // what is left is the mount point
      fs::rename(second(), desk.folder / "drawer");
      fs::create_directory(second());
    }
    if (day == 13) {
      fs::remove(second());
      fs::rename(desk.folder / "drawer", second());
    }
    desk.on_day(day);
    put_file(desk.source() + "/daily", "day " + std::to_string(day));
    Ran ran = desk.kestrum({"run", "--due"});
    EXPECT_LE(ran.exit, 1) << day << ran.out << ran.err;
    if (away) {
      EXPECT_TRUE(fs::is_empty(second())) << day;
    } else {
      EXPECT_EQ(sets_in(desk.shelf()), sets_in(copy_of_shelf())) << day << ran.out << ran.err;
    }
  }
  EXPECT_LT(sets_in(copy_of_shelf()).size(), 12U);
  EXPECT_EQ(desk.json({"verify", "--shelf", copy_of_shelf()})["damage"], Json::array());
  EXPECT_NE(desk.kestrum({"history", "desk"}).out.find("copy"), std::string::npos);
}

TEST_F(ShelfCopy, IsToldOfHowFarItIsBehind) {
  desk.on_day(0);
  define();
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "copies.when", "every day at 12:00"}).exit, 0);
  run_of(0);
  copy();
  auto status = [&] { return desk.json({"status", "desk"})["jobs"][0]; };
  EXPECT_EQ(status()["copies"][0]["behind"], false);
  EXPECT_EQ(desk.json({"shelf", "list", "desk"})["copies"][0]["to_come"]["sets"], 0);
  desk.on_day(1);
  run_of(1);
  EXPECT_EQ(status()["copies"][0]["behind"], true);
  EXPECT_EQ(status()["copies"][0]["newest"], "c1-0");
  EXPECT_EQ(status()["state"], "fine");
  Json to_come = desk.json({"shelf", "list", "desk"})["copies"][0]["to_come"];
  EXPECT_EQ(to_come["sets"], 1);
  EXPECT_GT(to_come["bytes"], 200'000);
  // Nobody has plugged it in for days.
  fs::rename(second(), desk.folder / "drawer");
  desk.on_day(9);
  run_of(2);
  EXPECT_EQ(status()["state"], "heed");
  Ran ran = desk.kestrum({"status", "desk"});
  EXPECT_NE(ran.out.find("old and behind"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("up to c1-0"), std::string::npos) << ran.out;
  fs::rename(desk.folder / "drawer", second());
  copy();
  EXPECT_EQ(status()["state"], "fine") << status().dump(1);
}

TEST_F(ShelfCopy, OntoAFullDiskIsToldAndGoesOnOnceThereIsRoom) {
  if (::geteuid() != 0) GTEST_SKIP() << "mounting needs root";
  define();
  for (int i = 0; i < 3; ++i) run_of(i);
  if (run_script("mount -t tmpfs -o size=400k none " + second()).exit != 0) {
    GTEST_SKIP() << "no tmpfs here";
  }
  Ran ran = desk.kestrum({"shelf", "copy", "desk", "--to", second()});
  EXPECT_EQ(ran.exit, 6) << ran.out << ran.err;
  Json verified = desk.json({"verify", "--shelf", copy_of_shelf()});
  EXPECT_EQ(verified["damage"], Json::array());
  EXPECT_EQ(verified["restorable"].size(), 1U);
  run_script("mount -o remount,size=4m " + second());
  EXPECT_EQ(desk.kestrum({"shelf", "copy", "desk", "--to", second()}).exit, 0);
  expect_copy_is_right(3);
  run_script("umount " + second());
}

}  // namespace
}  // namespace kestrum::test
