// The shelves of many PCs below one folder, told from the desk without any secret.
#include <gtest/gtest.h>
#include <unistd.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Fleet : public testing::Test {
 protected:
  void SetUp() override {
    desk.on_day(10);
    fs::create_directories(server());
    // Nobody's passphrase is known at the desk.
    desk.environment["KESTRUM_PASSPHRASE"] = "";
  }
  std::string server() const { return desk.folder / "server"; }
  std::string shelf_of(const std::string& host) const { return server() + "/" + host + "/desk"; }
  // A PC that ran each day from the first to the last, whose shelf lies on the server.
  void add_pc(const std::string& host, int first, int last,
              const std::vector<std::string>& more = {}) {
    Desk pc(host);
    pc.environment["KESTRUM_HOST"] = host;
    pc.on_day(first);
    std::vector<std::string> words = {"--when", "every day at 21:00"};
    words.insert(words.end(), more.begin(), more.end());
    for (int i = 0; i < 30; ++i) {
      put_file(pc.source() + "/secret name " + std::to_string(i), "a letter " + host);
    }
    pc.define(words);
    for (int day = first; day <= last; ++day) {
      pc.on_day(day);
      put_file(pc.source() + "/diary", std::to_string(day));
      ASSERT_LE(pc.kestrum({"run", "desk"}).exit, 1);
    }
    fs::copy(pc.disk() + "/" + host, server() + "/" + host, fs::copy_options::recursive);
  }
  // Rows by host, or by folder where there is none.
  std::map<std::string, Json> look(const std::vector<std::string>& more = {}) {
    std::vector<std::string> words = {"status", "--shelves", server()};
    words.insert(words.end(), more.begin(), more.end());
    std::map<std::string, Json> rows;
    Json told = desk.json(words);
    for (const Json& row : told["shelves"]) {
      std::string name = row["host"].is_null() ? base_name(row["path"].get<std::string>())
                                               : row["host"].get<std::string>();
      rows[name] = row;
    }
    return rows;
  }
  static std::string why(const Json& row) {
    std::string text = row["state"].get<std::string>() + ": ";
    for (const Json& reason : row["why"]) text += reason.get<std::string>() + "; ";
    return text;
  }
  void edit_last_run(const std::string& host, const std::string& key, const Json& value) {
    std::string file = shelf_of(host) + "/last-run.json";
    Json record = Json::parse(read_file(file));
    record[key] = value;
    put_file(file, record.dump());
  }
  Desk desk;
};

TEST_F(Fleet, TellsOfEachShelfWhatIsAmissWorstFirst) {
  add_pc("fine-pc", 7, 9);
  const std::vector<std::string> open = {"--protection", "none"};
  add_pc("late-pc", 0, 3, open);
  add_pc("failing-pc", 3, 5, open);
  edit_last_run("failing-pc", "outcome", "failed");
  edit_last_run("failing-pc", "finished", "2026-03-11T20:00:00Z");
  add_pc("warned-pc", 7, 9, open);
  edit_last_run("warned-pc", "outcome", "done with warnings");
  add_pc("hurt-pc", 8, 9, open);
  edit_last_run("hurt-pc", "checks", {{"damaged_sets", 2}, {"drill_mismatches", 1}});
  fs::create_directories(server() + "/empty-folder/deep");
  put_file(server() + "/a file", "no shelf either");
  put_file(desk.folder / "pcs.txt", "# of the studio\nfine-pc\nlate-pc  # Mika's\n\nlost-pc\n");
  Tree before = tree_of(server());
  auto rows = look({"--expect", desk.folder / "pcs.txt"});
  EXPECT_EQ(difference(before, tree_of(server())), "") << "it only looks";
  ASSERT_EQ(rows.size(), 7u);
  EXPECT_EQ(why(rows["fine-pc"]), "fine: ");
  EXPECT_EQ(rows["fine-pc"]["restore_points"], 3);
  EXPECT_EQ(rows["fine-pc"]["newest"], "2026-03-10T21:00:00Z");
  EXPECT_EQ(rows["fine-pc"]["path"], shelf_of("fine-pc"));
  EXPECT_TRUE(rows["fine-pc"]["signed"].is_null()) << "nobody here knows its keys";
  EXPECT_EQ(why(rows["late-pc"]), "trouble: not heard of since 7 days ago; ");
  EXPECT_EQ(why(rows["failing-pc"]),
            "trouble: the last run failed, 1 hour ago; late: the newest restore point is of 5 days "
            "ago; ");
  EXPECT_NE(why(rows["warned-pc"]).find("heed: the last run had warnings"), std::string::npos);
  EXPECT_EQ(why(rows["hurt-pc"]),
            "trouble: 2 sets damaged, as that PC knows; its last drill did not get every file "
            "back; ");
  EXPECT_EQ(why(rows["empty-folder"]), "heed: no shelf in this folder; ");
  EXPECT_EQ(why(rows["lost-pc"]), "trouble: no shelf of this PC is here; ");

  Ran told = desk.kestrum({"status", "--shelves", server(), "--expect", desk.folder / "pcs.txt"});
  EXPECT_EQ(told.exit, 0);
  EXPECT_TRUE(told.out.starts_with("4 in trouble, 2 to heed, 1 of 7 fine\n")) << told.out;
  EXPECT_LT(told.out.find("late-pc"), told.out.find("warned-pc")) << told.out;
  EXPECT_LT(told.out.find("warned-pc"), told.out.find("fine-pc")) << told.out;
  EXPECT_EQ(told.out.find("secret name"), std::string::npos) << told.out;
  EXPECT_NE(told.out.find("does not know who signs"), std::string::npos) << told.out;
  Ran probed = desk.kestrum({"status", "--shelves", server(), "--probe"});
  EXPECT_EQ(probed.exit, 2);
  EXPECT_EQ(probed.out.find('\n'), probed.out.size() - 1) << probed.out;
  for (const char* host : {"late-pc", "failing-pc", "hurt-pc"}) {
    fs::remove_all(server() + "/" + std::string(host));
  }
  EXPECT_EQ(desk.kestrum({"status", "--shelves", server(), "--probe"}).exit, 1);
  fs::remove_all(server() + "/warned-pc");
  fs::remove_all(server() + "/empty-folder");
  EXPECT_EQ(desk.kestrum({"status", "--shelves", server(), "--probe"}).exit, 0);
  fs::remove_all(server() + "/fine-pc");
  EXPECT_EQ(desk.kestrum({"status", "--shelves", server(), "--probe"}).exit, 3) << "none at all";
  EXPECT_EQ(desk.kestrum({"status", "--shelves", server() + "/nowhere"}).exit, 5);
  EXPECT_EQ(desk.kestrum({"status", "--expect", desk.folder / "pcs.txt"}).exit, 2);
  put_file(desk.folder / "none.txt", "# nobody\n");
  EXPECT_EQ(
      desk.kestrum({"status", "--shelves", server(), "--expect", desk.folder / "none.txt"}).exit,
      2);
}

// What lies there may be anything: a row says so, and the others are told all the same.
TEST_F(Fleet, WhatIsHostileOrBrokenIsARow) {
  for (const char* host : {"good-pc", "label-pc", "record-pc", "seal-pc", "moved-pc", "link-pc"}) {
    add_pc(host, 8, 9, {"--protection", "none"});
  }
  put_file(shelf_of("label-pc") + "/shelf.json", "{\"format\": [[[[[[[[[[[[[[[[[[[[[[[[[[[[[[");
  put_file(shelf_of("record-pc") + "/last-run.json", std::string(50'000, '['));
  for (const auto& set : fs::directory_iterator(shelf_of("seal-pc") + "/sets")) {
    put_file(set.path().string() + "/seal.json", "nonsense");
  }
  fs::rename(server() + "/moved-pc", server() + "/other-name");
  fs::copy(server() + "/good-pc", server() + "/good-pc-copy", fs::copy_options::recursive);
  fs::remove(shelf_of("link-pc") + "/last-run.json");
  ASSERT_EQ(run_program({"mkfifo", shelf_of("link-pc") + "/last-run.json"}).exit, 0);
  fs::create_directory_symlink("/", server() + "/root");
  Json rows = desk.json({"status", "--shelves", server()})["shelves"];
  std::map<std::string, std::string> found;
  for (const Json& row : rows) {
    std::string path = row["path"];
    found[base_name(parent_of(path)) == "server" ? base_name(path) : base_name(parent_of(path))] =
        why(row);
  }
  EXPECT_EQ(found.size(), 7u) << rows.dump(1);
  EXPECT_NE(found["label-pc"].find("trouble: "), std::string::npos) << found["label-pc"];
  EXPECT_NE(found["record-pc"].find("heed: last-run.json cannot be read"), std::string::npos);
  EXPECT_NE(found["link-pc"].find("heed: last-run.json cannot be read"), std::string::npos)
      << found["link-pc"];
  EXPECT_NE(found["seal-pc"].find("2 sets cannot be used"), std::string::npos) << found["seal-pc"];
  EXPECT_NE(found["other-name"].find("lies in another folder"), std::string::npos);
  for (const char* twin : {"good-pc", "good-pc-copy"}) {
    EXPECT_NE(found[twin].find("trouble: "), std::string::npos) << found[twin];
    EXPECT_NE(found[twin].find("one is a copy"), std::string::npos) << found[twin];
  }
}

TEST_F(Fleet, WhatThisPcKnowsIsCheckedBySignature) {
  desk.environment["KESTRUM_PASSPHRASE"] = "salt and pepper mill";
  desk.on_day(9);
  put_file(desk.source() + "/file", "1");
  desk.define({"--when", "every day at 21:00"});
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  desk.on_day(10);
  auto row = [&] { return desk.json({"status", "--shelves", desk.disk()})["shelves"][0]; };
  EXPECT_EQ(row()["signed"], true);
  EXPECT_EQ(why(row()), "fine: ");
  std::string seal = desk.set_folder("c1-0") + "/seal.json", text = read_file(seal);
  Json changed = Json::parse(text);
  changed["totals"]["files"] = 7;
  put_file(seal, changed.dump());
  EXPECT_EQ(row()["state"], "trouble") << row().dump(1);
  put_file(seal, text);
  EXPECT_EQ(row()["signed"], true);
  // A set that somebody else sealed.
  fs::remove(seal + ".minisig");
  EXPECT_EQ(row()["state"], "trouble") << row().dump(1);
}

TEST_F(Fleet, ASuspectSetAndOneThatGrewAreTold) {
  Desk pc("odd-pc");
  pc.environment["KESTRUM_HOST"] = "odd-pc";
  pc.on_day(4);
  for (int i = 0; i < 40; ++i) put_file(pc.source() + "/file " + std::to_string(i), noise(500, 1));
  pc.define({"--when", "every day at 21:00"});
  for (int day = 4; day < 9; ++day) {
    pc.on_day(day);
    put_file(pc.source() + "/diary", std::to_string(day));
    ASSERT_EQ(pc.kestrum({"run", "desk"}).exit, 0);
  }
  pc.on_day(9);
  put_file(pc.source() + "/film", noise(110'000'000, 9));
  for (int i = 0; i < 30; ++i) fs::remove(pc.source() + "/file " + std::to_string(i));
  ASSERT_EQ(pc.kestrum({"run", "desk"}).exit, 1);
  desk.on_day(10);
  Json row = desk.json({"status", "--shelves", pc.disk()})["shelves"][0];
  EXPECT_NE(why(row).find("trouble: c1-5 is SUSPECT, 24 hours ago; "), std::string::npos)
      << why(row);
  EXPECT_NE(why(row).find("growing: c1-5 takes 110 MB"), std::string::npos) << why(row);
}

}  // namespace
}  // namespace kestrum::test
