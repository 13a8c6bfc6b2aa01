// The names that scripts rely on, in every JSON document.
#include <gtest/gtest.h>

#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

void expect_keys(const Json& object, const std::vector<std::string>& keys,
                 const std::string& what) {
  for (const auto& key : keys)
    EXPECT_TRUE(object.contains(key)) << what << ": " << key << " in " << object.dump();
}

class JsonDocuments : public testing::Test {
 protected:
  void SetUp() override {
    put_file(desk.source() + "/rota.csv", "week 1\n");
    put_file(desk.source() + "/not \xff utf-8", "x");
    put_file(desk.source() + "/sub/letter.txt", "dear listener\n");
    desk.define({"--title", "The desk"});
    report = desk.json({"run", "desk"});
  }
  Desk desk;
  Json report;
};

TEST_F(JsonDocuments, OfARun) {
  const Json& run = report["runs"][0];
  expect_keys(
      run,
      {"run", "job", "host", "started", "finished", "outcome", "exit", "reason", "set", "kind",
       "based_on", "continued", "suspect", "files", "bytes", "seconds", "warnings", "pruned"},
      "run");
  expect_keys(run["files"],
              {"seen", "copied", "moved", "same", "gone", "absent", "left_out", "failed"}, "files");
  expect_keys(run["bytes"], {"seen", "copied", "stored"}, "bytes");
  EXPECT_EQ(run["outcome"], "done");
  EXPECT_TRUE(run["based_on"].is_null());
  EXPECT_EQ(run["files"]["seen"], 3);
  EXPECT_EQ(run["bytes"]["seen"], 7 + 1 + 14);
  Json record = Json::parse(read_file(desk.shelf() + "/last-run.json"));
  EXPECT_EQ(record["outcome"], "done");
}

TEST_F(JsonDocuments, OfSetsAndWhatLiesOnTheDisk) {
  Json json = desk.json({"sets", "desk"});
  expect_keys(json, {"job", "shelf", "chains"}, "sets");
  const Json& set = json["chains"][0]["sets"][0];
  expect_keys(set,
              {"set", "kind", "based_on", "taken", "files", "bytes_copied", "bytes_stored", "parts",
               "verified", "suspect"},
              "set");
  EXPECT_EQ(json["chains"][0]["complete"], true);
  EXPECT_EQ(set["verified"], "parts");
  // The seal's digests are those that anybody can work out from the files on the disk.
  std::string folder = desk.set_folder("c1-0");
  Json seal = Json::parse(read_file(folder + "/seal.json"));
  EXPECT_EQ(seal["files"].size(), 4U) << "a part, two copies of the ledger, blocks";
  for (const Json& file : seal["files"]) {
    std::string path = folder + "/" + file["name"].get<std::string>();
    EXPECT_EQ(
        run_program({"sh", "-c", "split -b 1M --filter='b3sum --raw' \"$1\" | b3sum --no-names",
                     "sh", path})
            .out,
        file["digest"].get<std::string>() + "\n");
  }
}

TEST_F(JsonDocuments, OfALook) {
  Json json = desk.json({"look", "desk", desk.source()});
  expect_keys(json, {"job", "set", "entries"}, "look");
  ASSERT_EQ(json["entries"].size(), 3U);
  EXPECT_EQ(json["entries"][0]["path_b64"].get<std::string>().empty(), false);
  EXPECT_FALSE(json["entries"][0].contains("path"));
  EXPECT_EQ(json["entries"][1]["path"], desk.source() + "/rota.csv");
  EXPECT_EQ(json["entries"][1]["type"], "file");
  EXPECT_EQ(json["entries"][1]["size"], 7);
  EXPECT_EQ(json["entries"][2]["type"], "folder");
  EXPECT_TRUE(json["entries"][2]["size"].is_null());
}

TEST_F(JsonDocuments, OfARestore) {
  Json json = desk.json({"restore", "desk", "letter.txt", "--to", desk.folder / "out"});
  expect_keys(json, {"job", "set", "restored", "skipped", "failed"}, "restore");
  ASSERT_EQ(json["restored"].size(), 1U);
  EXPECT_EQ(json["restored"][0]["path"], desk.source() + "/sub/letter.txt");
  EXPECT_EQ(json["restored"][0]["to"], desk.folder / "out/letter.txt");
  json = desk.json({"restore", "desk", "not*", "--to", desk.folder / "out"});
  EXPECT_TRUE(json["restored"][0].contains("path_b64") && json["restored"][0].contains("to_b64"));
}

TEST_F(JsonDocuments, OfAVerify) {
  Json json = desk.json({"verify", "desk", "--contents"});
  expect_keys(json, {"job", "checked", "damage", "restorable"}, "verify");
  expect_keys(json["checked"], {"sets", "parts", "files", "bytes"}, "checked");
  EXPECT_EQ(json["checked"]["files"], 3);
  EXPECT_EQ(json["restorable"], Json::array({"c1-0"}));
}

TEST_F(JsonDocuments, OfJobs) {
  Json json = desk.json({"job", "list"});
  EXPECT_EQ(json["jobs"][0]["job"], "desk");
  EXPECT_EQ(json["jobs"][0]["title"], "The desk");
  json = desk.json({"job", "show", "desk"});
  EXPECT_EQ(json["keys"]["chain.kind"], "incremental");
  EXPECT_NE(json["changed"].dump().find("title"), std::string::npos);
  json = desk.json({"job", "check"});
  EXPECT_EQ(json["jobs"][0]["usable"], true);
  EXPECT_TRUE(desk.json({"job", "categories"})["categories"].contains("documents"));
}

TEST_F(JsonDocuments, OfErrors) {
  Json json = desk.json({"look", "desk", "/nowhere"}, 9);
  expect_keys(json["error"], {"exit", "message", "hint", "job", "path"}, "error");
  EXPECT_EQ(json["error"]["exit"], 9);
  EXPECT_EQ(json["error"]["path"], "/nowhere");
  json = desk.json({"lok", "desk"}, 2);
  EXPECT_NE(json["error"]["hint"].get<std::string>().find("look"), std::string::npos);
}

TEST_F(JsonDocuments, LeaveARecordOfEveryRun) {
  run_program({"bash", "-c", "mv " + desk.disk() + " " + desk.disk() + ".away"});
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 5);
  int records = 0, failed = 0;
  std::string runs = desk.folder / "home/state/runs/desk";
  for (const auto& name : list_folder(runs)) {
    if (!name.ends_with(".json")) continue;
    ++records;
    failed += Json::parse(read_file(runs + "/" + name))["outcome"] == "failed";
  }
  EXPECT_EQ(records, 2);
  EXPECT_EQ(failed, 1);
}

}  // namespace
}  // namespace kestrum::test
