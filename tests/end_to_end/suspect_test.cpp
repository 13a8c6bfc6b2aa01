// Sets that show an unusual change: kept, marked, and not restored from unasked.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Suspect : public testing::Test {
 protected:
  void define(const std::vector<std::string>& more = {}) {
    on_day(0);
    std::vector<std::string> words = {"--protection", "none", "--when", "every day at 21:00"};
    words.insert(words.end(), more.begin(), more.end());
    desk.define(words);
    for (int i = 0; i < 60; ++i) write(i, "letter " + std::to_string(i));
  }
  void on_day(int day) { desk.on_day(day); }
  std::string file(int i) { return desk.source() + "/letter-" + std::to_string(i) + ".txt"; }
  void write(int i, const std::string& text) {
    std::string content;
    for (int line = 0; line < 200; ++line)
      content += text + ", line " + std::to_string(line) + "\n";
    put_file(file(i), content);
  }
  Json run(int day, int exit = 0, const std::vector<std::string>& more = {}) {
    on_day(day);
    std::vector<std::string> words = {"run", "desk"};
    words.insert(words.end(), more.begin(), more.end());
    return desk.json(words, exit)["runs"][0];
  }
  Json suspect_set() { return desk.json({"status", "desk"})["jobs"][0]["suspect"]; }
  Desk desk;
};

TEST_F(Suspect, TraceProposesAVersionThatNoSuspectSetHolds) {
  define();
  run(0);
  write(3, "letter 3, second version");
  run(1);
  for (int i = 0; i < 25; ++i) write(i, "overwritten");
  ASSERT_EQ(run(2, 1)["suspect"], true);
  for (int i = 0; i < 2; ++i) fs::remove(file(i));
  write(3, "overwritten again");
  write(40, "a day's work");
  write(41, "a day's work");
  run(3, 1);
  auto last_line = [&](const std::string& name) {
    std::string out = desk.kestrum({"trace", "desk", name}).out;
    return out.substr(out.find("next: "));
  };
  EXPECT_NE(last_line("letter-3.txt").find(" --point c1-1 "), std::string::npos)
      << "the two last are suspect";
  EXPECT_NE(last_line("letter-0.txt").find(" --point c1-1 "), std::string::npos) << "it is gone";
  EXPECT_NE(last_line("letter-50.txt").find(" --point c1-1 "), std::string::npos)
      << "of one version, the newest set that is not suspect";
  std::string traced = desk.kestrum({"trace", "desk", "letter-3.txt"}).out;
  EXPECT_NE(traced.find("c1-2, SUSPECT"), std::string::npos) << traced;
  EXPECT_NE(traced.find("c1-3, newest; SUSPECT"), std::string::npos) << traced;
  EXPECT_EQ(traced.find("c1-1, SUSPECT"), std::string::npos) << traced;
}

TEST_F(Suspect, AnUnusualChangeIsKeptMarkedAndNotRestoredFromUnasked) {
  define({"--new-full", "after 1 incrementals", "--keep-for", "1 day"});
  run(0);
  run(1);
  run(2);
  for (int i = 0; i < 25; ++i) write(i, "overwritten");
  Json made = run(3, 1);
  EXPECT_EQ(made["suspect"], true);
  EXPECT_EQ(made["set"], "c2-1");
  EXPECT_EQ(made["suspect_why"], "25 of 60 known files changed, 0 are gone");
  // The next run adds little, and is no better.
  write(30, "a day's work");
  Json next = run(4, 1);
  EXPECT_EQ(next["suspect"], false);
  EXPECT_EQ(next["suspect_since"], "c2-1");
  for (int day = 5; day < 8; ++day) EXPECT_EQ(run(day, 1)["pruned"], Json::array());

  EXPECT_EQ(desk.json({"status", "desk"})["jobs"][0]["suspect"], "c2-1");
  EXPECT_EQ(desk.kestrum({"status", "--probe"}).exit, 2);
  Ran prune = desk.kestrum({"prune", "desk", "--to-free", "1 MB", "--break-promises"});
  EXPECT_EQ(prune.exit, 6);
  EXPECT_NE(prune.err.find("c2-1 is suspect"), std::string::npos) << prune.err;

  Ran restored = desk.kestrum({"restore", "desk", "letter-3.txt", "--to", desk.folder / "back"});
  EXPECT_EQ(restored.exit, 0);
  EXPECT_NE(restored.err.find("c2-0"), std::string::npos) << restored.err;
  EXPECT_TRUE(read_file(desk.folder / "back/letter-3.txt").starts_with("letter 3"));
  EXPECT_EQ(desk.json({"look", "desk"})["set"], "c2-0");
  EXPECT_EQ(desk.json({"look", "desk", "--point", "newest"})["set"], "c4-1");

  EXPECT_EQ(desk.kestrum({"trust", "desk", "c4-0", "--because", "x"}).exit, 2)
      << "it is not suspect by itself";
  EXPECT_EQ(desk.kestrum({"trust", "desk", "c2-1"}).exit, 2) << "why?";
  EXPECT_EQ(desk.kestrum({"trust", "desk", "c9-1", "--because", "x"}).exit, 9);
  EXPECT_EQ(desk.kestrum({"trust", "desk", "c2-1", "--because", "the new letterhead"}).exit, 0);
  EXPECT_EQ(desk.json({"look", "desk"})["set"], "c4-1");
  EXPECT_EQ(desk.json({"status", "desk"})["jobs"][0]["suspect"], nullptr);
  EXPECT_NE(run(8)["pruned"], Json::array()) << "pruning goes on";
}

TEST_F(Suspect, TrustMustBeSigned) {
  define();
  run(0);
  for (int i = 0; i < 40; ++i) write(i, "overwritten");
  run(1, 1);
  put_file(desk.set_folder("c1-1") + "/trusted.json",
           R"({"format": "kestrum-trusted", "version": 1, "because": "nothing to see"})");
  EXPECT_EQ(desk.json({"look", "desk"})["set"], "c1-0");
}

TEST_F(Suspect, FilesThatTurnIntoNoiseCountForMore) {
  define();
  run(0);
  for (int i = 0; i < 7; ++i) write(i, "a day's work");
  EXPECT_EQ(run(1)["suspect"], false);
  for (unsigned i = 0; i < 7; ++i) put_file(file(static_cast<int>(i)), noise(8000, i));
  Json made = run(2, 1);
  EXPECT_EQ(made["suspect"], true);
  EXPECT_NE(made["suspect_why"].get<std::string>().find("look like noise"), std::string::npos);
}

TEST_F(Suspect, VanishedFilesCountAndMovedOnesDoNot) {
  define();
  run(0);
  fs::create_directories(desk.source() + "/2025");
  for (int i = 0; i < 30; ++i) fs::rename(file(i), desk.source() + "/2025/" + std::to_string(i));
  EXPECT_EQ(run(1)["suspect"], false);
  fs::remove_all(desk.source() + "/2025");
  EXPECT_EQ(run(2, 1)["suspect"], true);
}

TEST_F(Suspect, AFullOrDifferentialSetIsComparedWithTheNewest) {
  define({"--kind", "differential"});
  run(0);
  for (int part = 0; part < 4; ++part) {  // all of it changes, but over days
    for (int i = 0; i < 15; ++i) write(part * 15 + i, "rewritten");
    EXPECT_EQ(run(1 + part)["suspect"], false) << part;
  }
  EXPECT_EQ(run(5, 0, {"--kind", "full"})["suspect"], false);
  for (int i = 0; i < 30; ++i) write(i, "overwritten");
  EXPECT_EQ(run(6, 1, {"--kind", "full"})["suspect"], true);
}

TEST_F(Suspect, AFolderThatWasFullAndIsEmptyIsSuspectUnlessAccepted) {
  define();
  std::string second = desk.folder / "mail";
  put_file(second + "/inbox", "x");
  std::string path = desk.folder / "home/jobs/desk.toml", text = read_file(path);
  std::size_t after = text.find(desk.source() + "\"") + desk.source().size() + 1;
  put_file(path, text.substr(0, after) + ", \"" + second + "\"" + text.substr(after));
  run(0);
  fs::remove(second + "/inbox");
  Json made = run(1, 1);
  EXPECT_EQ(made["suspect"], true);
  EXPECT_EQ(made["suspect_why"], second + " held files and is empty now");
  EXPECT_EQ(desk.kestrum({"trust", "desk", "c1-1", "--because", "moved"}).exit, 0);
  put_file(second + "/inbox", "x");
  run(2);
  fs::remove(second + "/inbox");
  EXPECT_EQ(run(3, 1, {"--accept-empty"})["suspect"], false);
}

// Malware that takes its time: a few files a day, each run for itself nothing unusual.
class Creeping : public Suspect, public testing::WithParamInterface<std::tuple<std::string, bool>> {
 protected:
  void encrypt(int i) {
    std::string content =
        noise(static_cast<std::size_t>(fs::file_size(file(i))), static_cast<unsigned>(i));
    if (!std::get<1>(GetParam())) return put_file(file(i), content);
    put_file(file(i) + ".locked", content);
    fs::remove(file(i));
  }
};

TEST_P(Creeping, NoiseIsNoticedBeforeTheLastGoodVersionsGo) {
  std::string kind = std::get<0>(GetParam());
  std::vector<std::string> how = {"--keep-for", "4 days"};
  if (kind != "full") how.insert(how.end(), {"--new-full", "after 2 incrementals"});
  if (kind != "incremental") how.insert(how.end(), {"--kind", kind});
  if (kind == "differential") how[3] = "after 2 differentials";
  define(how);
  run(0);
  run(1);
  int encrypted = 0, first = 0;
  Json pruned = Json::array();
  for (int day = 2; day < 14; ++day) {
    for (int i = 0; i < 5 && encrypted < 60; ++i) encrypt(encrypted++);
    bool expected = desk.json({"forecast", "desk"})["suspect_why"].is_string();
    Json made = run(day, first > 0 || expected ? 1 : 0);
    EXPECT_EQ(made["suspect"].get<bool>(), expected) << day << made;
    if (made["suspect"].get<bool>() && first == 0) first = day;
    if (first > 0) {
      EXPECT_EQ(made["pruned"], Json::array()) << day;
    }
  }
  ASSERT_GT(first, 2) << "not by a single day";
  ASSERT_LT(first, 6);
  for (int i = 0; i < 60; ++i) {
    Ran restored = desk.kestrum({"restore", "desk", file(i), "--point", "c1-0", "--to",
                                 desk.folder / "back", "--clash", "replace"});
    ASSERT_EQ(restored.exit, 0) << i << restored.err;
  }
  // What went on meanwhile is told by sets of its own; from the last on the count begins anew.
  for (Json set = suspect_set(); set.is_string(); set = suspect_set()) {
    ASSERT_EQ(desk.kestrum({"trust", "desk", set, "--because", "a vault now"}).exit, 0);
  }
  EXPECT_EQ(run(14)["suspect"], false);
}

INSTANTIATE_TEST_SUITE_P(Kinds, Creeping,
                         testing::Combine(testing::Values("incremental", "differential", "full"),
                                          testing::Bool()));

TEST_F(Suspect, PlainChangesNeverAddUpAndOldNoiseIsNone) {
  define({"--keep-for", "30 days"});
  for (unsigned i = 0; i < 12; ++i) put_file(file(static_cast<int>(i)), noise(4000, i));
  run(0);
  for (int day = 1; day < 13; ++day) {
    write(day * 4 + 8, "written anew on day " + std::to_string(day));
    fs::rename(file(day * 4 + 9), file(day * 4 + 9) + ".old");
    fs::remove(file(day * 4 + 10));
    put_file(file(day - 1), noise(4000, static_cast<unsigned>(100 + day)));  // noise as before
    EXPECT_EQ(run(day)["suspect"], false) << day;
  }
}

TEST_F(Suspect, AJobOfTwentyFilesIsGuarded) {
  define();
  for (int i = 20; i < 60; ++i) fs::remove(file(i));
  run(0);
  for (unsigned i = 0; i < 5; ++i) {
    put_file(file(static_cast<int>(i)) + ".locked", noise(300, i));
    fs::remove(file(static_cast<int>(i)));
  }
  EXPECT_EQ(run(1, 1)["suspect"], true);
}

TEST_F(Suspect, FewFilesOrAHigherLimitAreNot) {
  define();
  for (int i = 19; i < 60; ++i) fs::remove(file(i));
  run(0);
  for (int i = 0; i < 19; ++i) write(i, "overwritten");
  EXPECT_EQ(run(1)["suspect"], false) << "19 files say nothing";
  for (int i = 19; i < 60; ++i) write(i, "new");
  run(2);
  std::string path = desk.folder / "home/jobs/desk.toml";
  put_file(path, read_file(path) + "\n[report]\nsuspect_above = \"100%\"\n");
  for (int i = 0; i < 60; ++i) write(i, "overwritten again");
  EXPECT_EQ(run(3)["suspect"], false);
}

}  // namespace
}  // namespace kestrum::test
