// A job with several disks: whoever looks for a file finds it on whichever of them it lies, and is
// told where something lies on one that is not plugged in.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class SeveralDisks : public testing::Test {
 protected:
  // Day 1 on blue, day 2 on red with a file that is there on no other day, day 3 on blue.
  void make(const std::string& protection) {
    desk.on_day(0);
    for (const char* name : {"blue", "red"}) fs::create_directory(disk(name));
    ASSERT_EQ(desk.kestrum({"job", "new", "desk", "--from", desk.source(), "--to", disk("blue"),
                            "--to", disk("red"), "--same-disk", "--protection", protection})
                  .exit,
              0);
    fs::create_directory(desk.source() + "/Letters");
    put_file(desk.source() + "/Letters/rota.csv", "week 1\n");
    put_file(desk.source() + "/early.txt", "on blue alone\n");
    run(1, "blue", "c1-0");
    put_file(desk.source() + "/Letters/rota.csv", "week 2\n");
    put_file(desk.source() + "/two.txt", "on red alone\n");
    fs::remove(desk.source() + "/early.txt");
    run(2, "red", "c1-0");
    put_file(desk.source() + "/Letters/rota.csv", "week 3\n");
    fs::remove(desk.source() + "/two.txt");
    run(3, "blue", "c1-1");
    desk.on_day(4);
  }
  void SetUp() override { make("none"); }

  void run(int day, const std::string& on, const std::string& set) {
    desk.on_day(day);
    ASSERT_EQ(desk.json({"run", "desk", "--on", disk(on)})["runs"][0]["set"], set);
  }
  std::string disk(const std::string& name) const { return desk.folder / name; }
  void unplug(const std::string& name) { fs::rename(disk(name), disk(name) + ".away"); }
  void plug_in(const std::string& name) { fs::rename(disk(name) + ".away", disk(name)); }

  // Restores into a new folder; what lies in it, by name.
  std::map<std::string, std::string> restored(std::vector<std::string> words, int exit) {
    std::string to = desk.folder / ("out" + std::to_string(++outs_));
    words.insert(words.begin(), {"restore", "desk"});
    words.insert(words.end(), {"--to", to});
    last = desk.kestrum(words);
    EXPECT_EQ(last.exit, exit) << last.out << last.err;
    std::map<std::string, std::string> files;
    if (!fs::exists(to)) return files;
    for (const auto& entry : fs::recursive_directory_iterator(to)) {
      if (entry.is_regular_file()) files[entry.path().filename()] = read_file(entry.path());
    }
    return files;
  }
  using Files = std::map<std::string, std::string>;

  Desk desk;
  Ran last;

 private:
  int outs_ = 0;
};

TEST_F(SeveralDisks, OneRunWritesToBoth) {
  std::vector<std::string> words = {"run", "desk", "--on", disk("blue"), "--on", disk("red")};
  Json runs = desk.json(words)["runs"];
  ASSERT_EQ(runs.size(), 2U);
  EXPECT_EQ(runs[0]["set"], "c1-2");
  EXPECT_EQ(runs[1]["set"], "c1-1");
  // One that is away keeps nothing from the other.
  unplug("blue");
  desk.on_day(5);
  runs = desk.json(words, 5)["runs"];
  ASSERT_EQ(runs.size(), 2U) << runs.dump(2);
  EXPECT_EQ(runs[1]["set"], "c1-2");
  words.back() = disk("green");
  EXPECT_EQ(desk.kestrum(words).exit, 2);
}

TEST_F(SeveralDisks, AFileIsFoundOnWhicheverDiskItLies) {
  for (const char* name : {"two.txt", "early.txt"}) {
    Json versions = desk.json({"trace", "desk", name})["versions"];
    ASSERT_EQ(versions.size(), 1U) << name;
    EXPECT_EQ(versions[0]["disk"], std::string(name) == "two.txt" ? "red" : "blue");
    EXPECT_EQ(versions[0]["sets"], Json::array({"c1-0"}));
    // Neither is there at the newest restore point, which is on blue.
    EXPECT_EQ(versions[0]["state"], std::string(name) == "two.txt" ? "not there" : "gone");
  }
  // All three weeks, newest first.
  Json versions = desk.json({"trace", "desk", "rota.csv"})["versions"];
  ASSERT_EQ(versions.size(), 3U);
  EXPECT_EQ(versions[0]["sets"], Json::array({"c1-1"}));
  EXPECT_EQ(versions[1]["disk"], "red");
  EXPECT_EQ(versions[2]["disk"], "blue");

  Ran ran = desk.kestrum({"look", "desk", desk.source() + "/two.txt"});
  EXPECT_EQ(ran.exit, 9);
  EXPECT_NE(ran.err.find("last seen 2026-03-03 21:00\n  add --point c1-0 --on red\n"),
            std::string::npos)
      << ran.err;
  EXPECT_EQ(desk.json({"look", "desk", "two.txt", "--point", "last-seen"})["disk"], "red");
  EXPECT_EQ(desk.json({"look", "desk", "--point", "2026-03-03"})["disk"], "red");
  EXPECT_EQ(desk.json({"look", "desk", "--point", "oldest"})["disk"], "blue");
  Json now = desk.json({"look", "desk"});
  EXPECT_EQ(now["disk"], "blue");
  EXPECT_EQ(now["set"], "c1-1");

  EXPECT_EQ(restored({"rota.csv"}, 0), (Files{{"rota.csv", "week 3\n"}}));
  EXPECT_EQ(restored({"rota.csv", "--point", "2026-03-03"}, 0), (Files{{"rota.csv", "week 2\n"}}));
  EXPECT_EQ(restored({"rota.csv", "--point", "2026-03-02"}, 0), (Files{{"rota.csv", "week 1\n"}}));
  // Parts of names, each from its own disk.
  EXPECT_EQ(restored({"two.txt", "early.txt", "rota.csv", "--point", "last-seen"}, 0),
            (Files{{"two.txt", "on red alone\n"},
                   {"early.txt", "on blue alone\n"},
                   {"rota.csv", "week 3\n"}}));
  EXPECT_EQ(restored({"never.txt", "--point", "last-seen"}, 9), Files{});
  Ran out = desk.kestrum({"restore", "desk", "two.txt", "--point", "last-seen", "--to", "-"});
  EXPECT_EQ(out.out, "on red alone\n");
}

TEST_F(SeveralDisks, ASetThatTwoDisksHaveIsAskedForByDisk) {
  Ran ran = desk.kestrum({"restore", "desk", "--point", "c1-0", "--to", desk.folder / "out"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_NE(ran.err.find("blue and red have a c1-0 each\n  --on blue or --on red"),
            std::string::npos)
      << ran.err;
  EXPECT_FALSE(fs::exists(desk.folder / "out"));
  EXPECT_EQ(restored({"rota.csv", "--point", "c1-0", "--on", "red"}, 0),
            (Files{{"rota.csv", "week 2\n"}}));
  EXPECT_EQ(restored({"rota.csv", "--point", "c1-0", "--on", disk("blue")}, 0),
            (Files{{"rota.csv", "week 1\n"}}));
  EXPECT_EQ(restored({"rota.csv", "--point", "c1-1"}, 0), (Files{{"rota.csv", "week 3\n"}}));
  EXPECT_EQ(restored({"rota.csv", "--on", "green"}, 2), Files{});
  EXPECT_EQ(restored({"rota.csv", "--point", "c4-0"}, 9), Files{});
  EXPECT_EQ(desk.kestrum({"look", "--shelf", disk("red") + "/test-pc/desk", "--on", "red"}).exit,
            2);
}

TEST_F(SeveralDisks, WhatLiesOnADiskThatIsAwayIsToldAndNotDenied) {
  unplug("blue");
  // By what this PC knows of it.
  EXPECT_EQ(desk.json({"look", "desk", "Letters"})["disk"], "blue");
  EXPECT_EQ(desk.json({"trace", "desk", "early.txt"})["versions"][0]["disk"], "blue");
  Json sets = desk.json({"sets", "desk"});
  ASSERT_EQ(sets["chains"].size(), 2U);
  EXPECT_EQ(sets["chains"][0]["disk"], "red");
  EXPECT_EQ(sets["chains"][1]["disk"], "blue");
  EXPECT_EQ(sets["chains"][1]["sets"].size(), 2U);
  EXPECT_EQ(sets["disks"][1]["shelf"], nullptr);

  // The newest that is plugged in, and a word on the later one.
  EXPECT_EQ(restored({"rota.csv"}, 1), (Files{{"rota.csv", "week 2\n"}}));
  EXPECT_NE(last.err.find("c1-1 on blue of 2026-03-04 21:00"), std::string::npos) << last.err;
  EXPECT_EQ(restored({"two.txt", "--point", "2026-03-03"}, 0),
            (Files{{"two.txt", "on red alone\n"}}));
  EXPECT_EQ(restored({"rota.csv", "--point", "2026-03-02"}, 5), Files{});
  EXPECT_NE(last.err.find("not plugged in: blue"), std::string::npos) << last.err;
  EXPECT_EQ(restored({"rota.csv", "--point", "last-seen"}, 1), (Files{{"rota.csv", "week 2\n"}}));
  EXPECT_EQ(restored({"two.txt", "--point", "last-seen"}, 0),
            (Files{{"two.txt", "on red alone\n"}}));

  Ran ran = desk.kestrum({"verify", "desk"});
  EXPECT_EQ(ran.exit, 0);
  EXPECT_NE(ran.out.find("desk on red: all sound"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("not plugged in: blue"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("nothing of it was checked"), std::string::npos) << ran.out;
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--on", "blue"}).exit, 5);
  EXPECT_EQ(desk.json({"drill", "desk"})["disks"], Json::array({"red"}));
  unplug("red");
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 5);
  EXPECT_EQ(restored({"rota.csv"}, 5), Files{});
  EXPECT_EQ(desk.json({"look", "desk"})["set"], "c1-1");
}

// The later of two disks' versions of each file that is not on the PC, once.
TEST_F(SeveralDisks, WhatIsMissingComesFromTheDiskThatHasItLast) {
  fs::remove(desk.source() + "/Letters/rota.csv");
  Files all = {
      {"rota.csv", "week 3\n"}, {"early.txt", "on blue alone\n"}, {"two.txt", "on red alone\n"}};
  EXPECT_EQ(restored({"--missing"}, 0), all);
  EXPECT_NE(last.err.find("3 files missing on this PC"), std::string::npos) << last.err;
  // A tail of a path is understood here too.
  EXPECT_EQ(restored({"Letters", "--missing"}, 0), (Files{{"rota.csv", "week 3\n"}}));
  EXPECT_EQ(restored({"Lettres", "--missing"}, 9), Files{});
  EXPECT_EQ(restored({"--missing", "--point", "2026-03-03"}, 0),
            (Files{{"rota.csv", "week 2\n"},
                   {"early.txt", "on blue alone\n"},
                   {"two.txt", "on red alone\n"}}));
  unplug("blue");
  EXPECT_EQ(restored({"--missing"}, 1),
            (Files{{"rota.csv", "week 2\n"}, {"two.txt", "on red alone\n"}}));
}

TEST_F(SeveralDisks, DamageOnOneDiskIsFoundAndTheOtherReadAllTheSame) {
  std::string set = disk("red") + "/test-pc/desk/sets";
  set += "/" + list_folder(set)[0];
  for (const auto& name : list_folder(set)) {
    if (name.starts_with("part-")) fs::resize_file(set + "/" + name, 100);
  }
  Json verified = desk.json({"verify", "desk"}, 4);
  ASSERT_EQ(verified["damage"].size(), 1U);
  EXPECT_EQ(verified["damage"][0]["disk"], "red");
  EXPECT_EQ(verified["restorable"], Json::array({"c1-0 on blue", "c1-1 on blue"}));
  EXPECT_EQ(desk.json({"sets", "desk"}, 4)["chains"].size(), 2U);
  // A label that somebody wrote over: nothing of that disk counts, and the other one does.
  std::string label = disk("red") + "/test-pc/desk/shelf.json";
  std::string text = read_file(label);
  text.insert(text.rfind('}'), ", \"more\": 1");
  put_file(label, text);
  EXPECT_EQ(restored({"rota.csv"}, 0), (Files{{"rota.csv", "week 3\n"}}));
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 4);
  EXPECT_EQ(restored({"rota.csv", "--on", "red"}, 4), Files{});
}

// The commonest way: whichever disk is plugged in lies at the same place.
TEST(DisksInTurn, AtOnePlaceAreToldApart) {
  Desk desk;
  desk.on_day(1);
  put_file(desk.source() + "/early.txt", "on the first alone\n");
  desk.define({"--protection", "none"});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  fs::rename(desk.disk(), desk.folder / "first");
  fs::create_directory(desk.disk());
  ASSERT_EQ(desk.kestrum({"shelf", "start", "desk", "--same-disk"}).exit, 0);
  desk.on_day(2);
  fs::remove(desk.source() + "/early.txt");
  put_file(desk.source() + "/late.txt", "on the second alone\n");
  ASSERT_EQ(desk.json({"run", "desk"})["runs"][0]["set"], "c1-0");
  Json sets = desk.json({"sets", "desk"});
  ASSERT_EQ(sets["disks"].size(), 2U) << sets;
  std::string here = sets["disks"][0]["disk"], away = sets["disks"][1]["disk"];
  EXPECT_NE(here, away);
  EXPECT_TRUE(here.starts_with("disk#")) << here;
  EXPECT_EQ(desk.json({"trace", "desk", "early.txt"})["versions"][0]["disk"], away);
  EXPECT_EQ(desk.json({"look", "desk", "--on", away})["set"], "c1-0");
  std::string to = desk.folder / "out";
  std::vector<std::string> restore = {"restore", "desk", "early.txt", "--point", "c1-0",
                                      "--on",    away,   "--to",      to};
  EXPECT_EQ(desk.kestrum(restore).exit, 5);
  fs::rename(desk.disk(), desk.folder / "second");
  fs::rename(desk.folder / "first", desk.disk());
  Ran ran = desk.kestrum(restore);
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(read_file(to + "/early.txt"), "on the first alone\n");
}

// A disk that the job does not name any more is read, and not written to.
TEST_F(SeveralDisks, ADiskOfFormerTimesIsStillRead) {
  std::string file = desk.folder / "home/jobs/desk.toml";
  std::string text = read_file(file);
  std::size_t at = text.find("\"" + disk("red") + "\"");
  ASSERT_NE(at, std::string::npos) << text;
  std::size_t comma = text.rfind(',', at);
  text.erase(comma, at + disk("red").size() + 2 - comma);
  put_file(file, text);
  EXPECT_EQ(restored({"two.txt", "--point", "last-seen"}, 0),
            (Files{{"two.txt", "on red alone\n"}}));
  EXPECT_EQ(desk.json({"verify", "desk"})["disks"].size(), 2U);
  desk.on_day(5);
  EXPECT_EQ(desk.json({"run", "desk"})["runs"][0]["set"], "c1-2");
  EXPECT_EQ(list_folder(disk("red") + "/test-pc/desk/sets").size(), 1U);
}

class SeveralProtectedDisks : public SeveralDisks {
 protected:
  void SetUp() override { make("passphrase"); }
};

TEST_F(SeveralProtectedDisks, OnePassphraseOpensAll) {
  desk.lose_index();
  EXPECT_EQ(restored({"two.txt", "early.txt", "--point", "last-seen"}, 0),
            (Files{{"two.txt", "on red alone\n"}, {"early.txt", "on blue alone\n"}}));
  EXPECT_EQ(desk.json({"verify", "desk", "--contents"})["checked"]["sets"], 3);
  EXPECT_EQ(desk.json({"drill", "desk"})["disks"].size(), 2U);
  // Without it, what this PC does not know any more is told of each disk.
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  EXPECT_EQ(desk.kestrum({"trace", "desk", "two.txt"}).exit, 7);
}

}  // namespace
}  // namespace kestrum::test
