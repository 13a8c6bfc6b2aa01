// Sets, keys and jobs that somebody put on a shelf, and shelves and PCs that were set back.
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <memory>
#include <optional>

#include "kestrum/archive/frames.h"
#include "kestrum/archive/set_writer.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/file.h"
#include "kestrum/base/uuid.h"
#include "kestrum/shelf/label.h"
#include "kestrum/shelf/ledger.h"
#include "kestrum/shelf/seal.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// Whoever can write to the disk can encrypt to the public recipient, but cannot sign.
TEST(ForgedSets, AreNotTakenForOurs) {
  Desk desk;
  put_file(desk.source() + "/rota.csv", "week 1\n");
  desk.define();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string honest = desk.set_folder("c1-0");
  // A copy of an honest set under the next number, its seal changed to match.
  std::string forged = desk.shelf() + "/sets/c0001-001_2026-03-03_2100Z";
  fs::copy(honest, forged);
  std::string text = read_file(forged + "/seal.json");
  text.replace(text.find("\"set\": \"c1-0\""), 13, "\"set\": \"c1-1\"");
  write_file(forged + "/seal.json", text);
  Json json = desk.json({"verify", "desk"}, 4);
  EXPECT_EQ(json["damage"][0]["set"], "c1-1");
  Json look = desk.json({"look", "desk"});
  EXPECT_EQ(look["set"], "c1-0") << "it is no restore point";
  // Parts of one set swapped into another are found by their digests.
  fs::remove_all(forged);
  put_file(desk.source() + "/more", noise(5000, 1));
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  std::string other = desk.set_folder("c1-1");
  fs::copy_file(honest + "/part-000001.tar.zst.age", other + "/part-000001.tar.zst.age",
                fs::copy_options::overwrite_existing);
  json = desk.json({"verify", "desk"}, 4);
  EXPECT_EQ(json["damage"][0]["set"], "c1-1");
  EXPECT_EQ(json["restorable"], Json::array({"c1-0"}));
}

// A work factor of 2^30 wants a terabyte.
TEST(ForgedIdentity, ThatWouldEatAllMemoryIsRefused) {
  Desk desk, stranger{"another-pc"};
  put_file(desk.source() + "/rota.csv", "week 1\n");
  desk.define();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  for (const char* name : {"/keys/identity.age", "/keys/identity-copy.age"}) {
    std::string file = shell_quoted(desk.shelf() + name);
    Ran forged =
        run_script("export LC_ALL=C; grep -v -- ----- " + file +
                   " | base64 -d | sed 's/^\\(-> scrypt .*\\) 10$/\\1 30/' | base64 -w 64 >body;"
                   "{ grep -e -----BEGIN " +
                   file + "; cat body; grep -e -----END " + file +
                   "; } >forged; "
                   "! cmp -s forged " +
                   file + "; cp forged " + file + "; rm forged body");
    ASSERT_EQ(forged.exit, 0) << forged.err;
  }
  stranger.environment["KESTRUM_PASSPHRASE"] = desk.environment["KESTRUM_PASSPHRASE"];
  for (std::vector<std::string> words :
       {std::vector<std::string>{"restore", "--to", desk.folder / "out", "--shelf"},
        std::vector<std::string>{"shelf", "claim"}}) {
    words.push_back(desk.shelf());
    Nanos begun = steady_now();
    Ran ran = stranger.kestrum(words);
    EXPECT_EQ(ran.exit, 4) << words[0] << ran.out << ran.err;
    EXPECT_NE(ran.err.find("work factor"), std::string::npos) << ran.err;
    EXPECT_LT(steady_now() - begun, 20 * kSecond);
  }
  EXPECT_FALSE(path_exists(desk.folder / "out"));
  // The PC that wrote it has a copy of its own.
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "out"}).exit, 0);
  EXPECT_EQ(desk.json({"verify", "desk"}, 4)["damage"][0]["file"], "keys/identity.age");
}

// Somebody else's job in the place of ours: it would be run by whoever takes the shelf over.
TEST(ForgedJobCopy, IsNotTakenOver) {
  for (const std::string protection : {"passphrase", "none"}) {
    Desk desk, stranger{"another-pc"};
    put_file(desk.source() + "/rota.csv", "week 1\n");
    desk.define({"--protection", protection});
    ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
    std::string copy = desk.shelf() + (protection == "none" ? "/job.toml" : "/job.toml.age");
    if (protection == "none") {
      write_file(copy, read_file(copy) + "\n[before_run]\ncommand = \"touch /tmp/never\"\n");
    } else {  // anybody can encrypt to the public recipient
      if (!have_program("age")) continue;
      Json label = Json::parse(read_file(desk.shelf() + "/shelf.json"));
      Ran forged = run_script("printf 'format = 1\\n[source]\\nfolders = [\"/etc\"]\\n' | age -r " +
                              label["recipient"].get<std::string>() + " >" + shell_quoted(copy));
      ASSERT_EQ(forged.exit, 0) << forged.err;
    }
    Json found = desk.json({"verify", "desk"}, 4);
    EXPECT_EQ(found["damage"][0]["file"], base_name(copy));
    stranger.environment["KESTRUM_PASSPHRASE"] = desk.environment["KESTRUM_PASSPHRASE"];
    Ran ran = stranger.kestrum({"shelf", "claim", desk.shelf()});
    std::string job = stranger.folder / "home/jobs/desk.toml";
    std::string taken = path_exists(job) ? read_file(job) : "";
    EXPECT_EQ(taken.find("\"/etc\""), std::string::npos) << ran.out << ran.err;
    EXPECT_EQ(taken.find("before = \"touch"), std::string::npos) << ran.out << ran.err;
    if (protection != "none") {
      EXPECT_NE((ran.out + ran.err).find("not signed"), std::string::npos) << ran.out << ran.err;
    }
  }
}

// Somebody puts back an older disk, or part of it.
class RolledBack : public testing::Test {
 protected:
  void SetUp() override {
    desk.define({"--protection", "none"});
    for (int week = 0; week < 2; ++week) run(week);
  }
  Json run(int week) {
    put_file(desk.source() + "/rota.csv", "week " + std::to_string(week) + "\n");
    put_file(desk.source() + "/file-" + std::to_string(week),
             noise(3000, static_cast<unsigned>(week)));
    return desk.json({"run", "desk"})["runs"][0];
  }
  void copy(const std::string& from, const std::string& to) {
    fs::remove_all(to);
    ASSERT_EQ(run_program({"cp", "-a", from, to}).exit, 0);
  }
  Desk desk;
};

TEST_F(RolledBack, ASetInTheMiddleOfAChainIsNoticedThoughItIsSigned) {
  std::string home = desk.folder / "home";
  copy(home, desk.folder / "home.old");
  copy(desk.disk(), desk.folder / "disk.old");
  ASSERT_EQ(run(7)["set"], "c1-2");
  copy(desk.set_folder("c1-2"), desk.folder / "another-c1-2");
  // PC and disk are both set back, and the same numbers are given once more.
  copy(desk.folder / "home.old", home);
  copy(desk.folder / "disk.old", desk.disk());
  fs::remove(desk.source() + "/file-7");
  ASSERT_EQ(run(2)["set"], "c1-2");
  ASSERT_EQ(run(3)["set"], "c1-3");
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 0);
  copy(desk.folder / "another-c1-2", desk.set_folder("c1-2"));
  Json found = desk.json({"verify", "desk"}, 4);
  EXPECT_EQ(found["restorable"], Json::array({"c1-0", "c1-1", "c1-2"})) << found;
  EXPECT_EQ(found["damage"][0]["set"], "c1-3") << found;
  Ran ran = desk.kestrum({"restore", "desk", "--to", desk.folder / "back"});
  EXPECT_NE(ran.err.find("c1-3 cannot be used"), std::string::npos) << ran.err;
  EXPECT_TRUE(path_exists(desk.folder / "back/file-7")) << "the newest that is whole";
  // What comes next does not build on it.
  EXPECT_EQ(run(4)["kind"], "full");
}

// An image of the PC from last week: its index knows less than the shelf holds.
TEST_F(RolledBack, APcThatWasSetBackKnowsAndHarmsNothing) {
  std::string home = desk.folder / "home";
  copy(home, desk.folder / "home.old");
  run(2);
  run(3);
  copy(desk.folder / "home.old", home);
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_NE(ran.err.find("this PC was set back"), std::string::npos) << ran.err;
  Json chains = desk.json({"sets", "desk"})["chains"];
  EXPECT_EQ(chains[0]["sets"].size(), 5U) << "an unprotected shelf is read anew: " << chains;
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
  for (int set = 0; set < 4; ++set) {
    std::string to = desk.folder / ("back-" + std::to_string(set));
    ran = desk.kestrum(
        {"restore", "desk", "rota.csv", "--point", "c1-" + std::to_string(set), "--to", to});
    EXPECT_EQ(ran.exit, 0) << ran.err;
    EXPECT_EQ(read_file(to + "/rota.csv"), "week " + std::to_string(set) + "\n");
  }
}

TEST(RolledBackWithAPassphrase, APcThatWasSetBackMakesAFullSetUnlessItIsToldThePassphrase) {
  Desk desk;
  put_file(desk.source() + "/rota.csv", "week 1\n");
  desk.define();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  fs::copy(desk.folder / "home", desk.folder / "home.old", fs::copy_options::recursive);
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  fs::remove_all(desk.folder / "home");
  fs::rename(desk.folder / "home.old", desk.folder / "home");
  std::string passphrase = desk.environment["KESTRUM_PASSPHRASE"];
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_NE(ran.err.find("this PC was set back"), std::string::npos) << ran.err;
  EXPECT_NE(ran.err.find("--passphrase-from"), std::string::npos) << ran.err;
  EXPECT_NE(desk.set_folder("c2-0"), "");
  desk.environment["KESTRUM_PASSPHRASE"] = passphrase;
  EXPECT_EQ(desk.json({"verify", "desk"})["restorable"].size(), 3U);
}

}  // namespace
}  // namespace kestrum::test
