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
  Desk desk;
};

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
  EXPECT_EQ(desk.json({"look", "desk", "--as-of", "newest"})["set"], "c4-1");

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

TEST_F(Suspect, FewFilesOrAHigherLimitAreNot) {
  define();
  for (int i = 40; i < 60; ++i) fs::remove(file(i));
  run(0);
  for (int i = 0; i < 40; ++i) write(i, "overwritten");
  EXPECT_EQ(run(1)["suspect"], false) << "40 files say nothing";
  for (int i = 40; i < 60; ++i) write(i, "new");
  run(2);
  std::string path = desk.folder / "home/jobs/desk.toml";
  put_file(path, read_file(path) + "\n[report]\nsuspect_above = \"100%\"\n");
  for (int i = 0; i < 60; ++i) write(i, "overwritten again");
  EXPECT_EQ(run(3)["suspect"], false);
}

}  // namespace
}  // namespace kestrum::test
