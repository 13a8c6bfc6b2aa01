// trace and compare: which versions are there, and what is different.
#include <gtest/gtest.h>

#include <filesystem>
#include <set>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Finding : public testing::Test {
 protected:
  void SetUp() override {
    on_day(0);
    desk.define({"--protection", "none", "--when", "every day at 21:00", "--new-full",
                 "after 2 incrementals"});
  }
  void on_day(int day) { desk.on_day(day); }
  void run(int day) {
    on_day(day);
    ASSERT_LE(desk.kestrum({"run", "desk"}).exit, 1);
  }
  std::string file(const std::string& name) { return desk.source() + "/" + name; }
  Json trace(const std::string& pattern, int exit = 0) {
    return desk.json({"trace", "desk", pattern}, exit)["versions"];
  }
  static std::set<std::string> paths(const Json& list) {
    std::set<std::string> names;
    for (const Json& item : list)
      names.insert(
          item["path"].get<std::string>().substr(item["path"].get<std::string>().rfind('/') + 1));
    return names;
  }
  Desk desk;
};

TEST_F(Finding, VersionsAreTracedAcrossChainsWithUnchangedStretchesFolded) {
  put_file(file("Rotas/rota.csv"), "first");
  put_file(file("other"), "0");
  for (int day = 0; day < 5; ++day) {
    if (day == 2) put_file(file("Rotas/rota.csv"), "second version");
    put_file(file("other"), std::to_string(day));
    run(day);
  }
  Json versions = trace("rota.csv");
  ASSERT_EQ(versions.size(), 2u) << versions.dump(1);
  EXPECT_EQ(versions[0]["size"], 14) << "newest first";
  EXPECT_EQ(versions[0]["sets"], (Json{"c1-2", "c2-0", "c2-1"}));
  EXPECT_EQ(versions[0]["last_seen"], "2026-03-05T21:00:00Z");
  EXPECT_EQ(versions[1]["sets"], (Json{"c1-0", "c1-1"}));
  EXPECT_EQ(versions[1]["first_seen"], "2026-03-01T21:00:00Z");
  EXPECT_EQ(versions[1]["path"], file("Rotas/rota.csv"));
  EXPECT_EQ(versions[0]["digest"].get<std::string>().size(), 64u);
  EXPECT_EQ(trace("Rotas").size(), 2u) << "a folder means what is in it";
  EXPECT_EQ(trace("*.CSV", 9).size(), 0u);
  EXPECT_EQ(desk.json({"trace", "desk", "*.CSV", "--ignore-case"})["versions"].size(), 2u);
  EXPECT_EQ(trace("rot").size(), 2u) << "part of a name, as told on the phone";
  EXPECT_EQ(desk.json({"trace", "--all", "rota.csv"})["versions"].size(), 2u);
  EXPECT_EQ(desk.json({"trace", "--shelf", desk.shelf(), "rota.csv"})["versions"].size(), 2u);
  EXPECT_EQ(desk.kestrum({"trace", "desk", "nothing-of-the-kind"}).exit, 9);
}

TEST_F(Finding, ARenamedFileIsFollowedThroughItsNames) {
  put_file(file("draft.txt"), "the text of it");
  run(0);
  fs::rename(file("draft.txt"), file("final.txt"));
  run(1);
  fs::create_directories(file("Sent"));
  fs::rename(file("final.txt"), file("Sent/letter.txt"));
  run(2);
  for (const char* name : {"draft.txt", "final.txt", "letter.txt"}) {
    Json versions = trace(name);
    EXPECT_EQ(paths(versions), (std::set<std::string>{"draft.txt", "final.txt", "letter.txt"}))
        << name;
  }
  Json first = trace("draft.txt")[0];
  EXPECT_EQ(first["state"], "gone");
  EXPECT_EQ(first["moved_to"], file("final.txt"));
  EXPECT_EQ(trace("letter.txt")[0]["moved_from"], file("final.txt"));
}

TEST_F(Finding, DeletedAndLeftOutFilesAreCalledSo) {
  put_file(file("gone.txt"), "x");
  put_file(file("notes.tmp2"), "y");
  put_file(file("stays"), "z");
  run(0);
  fs::remove(file("gone.txt"));
  std::string job = desk.folder / "home/jobs/desk.toml";
  std::string text = read_file(job);
  put_file(job, text.insert(text.find("[source]\n") + 9, "leave_out = [\"*.tmp2\"]\n"));
  run(1);
  EXPECT_EQ(trace("gone.txt")[0]["state"], "gone");
  EXPECT_EQ(trace("gone.txt")[0]["last_seen"], "2026-03-01T21:00:00Z");
  EXPECT_EQ(trace("notes.tmp2")[0]["state"], "left out");
  EXPECT_EQ(trace("stays")[0]["state"], "there");
}

TEST_F(Finding, TwoRestorePointsAreComparedByContent) {
  put_file(file("same"), "x");
  put_file(file("touched"), "t");
  put_file(file("changed"), "before");
  put_file(file("moved-a"), noise(5000, 1));
  put_file(file("gone"), "g");
  run(0);
  put_file(file("touched"), "t");
  put_file(file("changed"), "afterwards");
  fs::rename(file("moved-a"), file("moved-b"));
  fs::remove(file("gone"));
  put_file(file("new"), "n");
  Json now = desk.json({"compare", "desk"}, 1);
  run(1);
  Json sets = desk.json({"compare", "desk", "--point", "c1-0", "--with", "newest"}, 1);
  for (const Json& compared : {now, sets}) {
    EXPECT_EQ(paths(compared["new"]), std::set<std::string>{"new"}) << compared.dump(1);
    EXPECT_EQ(paths(compared["changed"]), std::set<std::string>{"changed"});
    EXPECT_EQ(paths(compared["moved"]), std::set<std::string>{"moved-b"});
    EXPECT_EQ(compared["moved"][0]["from"], file("moved-a"));
    EXPECT_EQ(paths(compared["gone"]), std::set<std::string>{"gone"});
    EXPECT_EQ(compared["from"], "c1-0");
  }
  EXPECT_EQ(now["to"], "now");
  EXPECT_EQ(sets["to"], "c1-1");
  Json back = desk.json({"compare", "desk", "--point", "c1-1", "--with", "c1-0"}, 1);
  EXPECT_EQ(paths(back["new"]), std::set<std::string>{"gone"}) << "the other direction";
  EXPECT_EQ(desk.kestrum({"compare", "desk"}).exit, 0);
  EXPECT_EQ(desk.json({"compare", "desk", file("changed"), "--point", "c1-0"}, 1)["new"].size(), 0u)
      << "narrowed to a path";
}

}  // namespace
}  // namespace kestrum::test
