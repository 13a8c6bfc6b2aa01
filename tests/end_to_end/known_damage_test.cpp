// Damage that is known is made good: the next run stores anew what lay there and is still on the
// PC, and pruning does not count on what is damaged.
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>
#include <set>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class KnownDamageOf : public testing::TestWithParam<const char*> {
 protected:
  void begin(const std::vector<std::string>& more = {}) {
    for (int i = 0; i < 40; ++i) {
      put_file(file(i), noise(60'000, static_cast<unsigned>(i)));
    }
    fs::create_hard_link(file(20), desk.source() + "/second-name");
    std::vector<std::string> words = {"--part-size", "500 kB"};
    words.insert(words.end(), more.begin(), more.end());
    desk.define(words);
    run();
    put_file(file(7), noise(60'000, 107));
    run();
  }
  std::string file(int i) const { return desk.source() + "/file" + std::to_string(i); }
  Json run(int exit = 0) { return desk.json({"run", "desk"}, exit)["runs"][0]; }
  std::string part(const std::string& set, int number) const {
    for (const char* ending : {".tar.zst.age", ".tar.zst"}) {
      std::string path = desk.set_folder(set) + "/part-00000" + std::to_string(number) + ending;
      if (path_exists(path)) return path;
    }
    return "";
  }
  static void damaged(const std::string& path, std::uint64_t offset) {
    std::fstream file(path, std::ios::in | std::ios::out | std::ios::binary);
    file.seekg(static_cast<std::streamoff>(offset));
    char c = static_cast<char>(file.get() ^ 0x20);
    file.seekp(static_cast<std::streamoff>(offset));
    file.put(c);
  }
  std::string state() { return desk.json({"status", "desk"})["jobs"][0]["state"]; }
  // The source as it is comes back from this restore point.
  void expect_all(const std::string& set) {
    std::string to = desk.folder / "back";
    fs::remove_all(to);
    Ran ran = desk.kestrum({"restore", "desk", "--point", set, "--to", to, "--layout", "full"});
    EXPECT_EQ(ran.exit, 0) << set << ran.out << ran.err;
    EXPECT_EQ(difference(tree_of(desk.source()), tree_of(to + desk.source())), "") << set;
  }
  Desk desk;
};

TEST_P(KnownDamageOf, AMissingPartIsNoticedByTheNextRunAndStoredAnew) {
  begin({"--kind", GetParam()});
  fs::remove(part("c1-0", 3));
  Json report = run(1);
  EXPECT_EQ(report["kind"], GetParam());
  std::string warning = report["warnings"][0]["reason"];
  EXPECT_NE(warning.find("c1-0 part-000003.tar.zst.age: it is missing"), std::string::npos);
  EXPECT_GE(report["files"]["copied"], 6) << report;
  EXPECT_LE(report["files"]["copied"], 14) << "no more than lay there: " << report;
  EXPECT_EQ(report["files"]["seen"], 41);
  expect_all("c1-2");
  EXPECT_EQ(state(), "heed") << "the older restore points are still damaged";
  Json found = desk.json({"verify", "desk", "--contents"}, 4);
  EXPECT_EQ(found["restorable"], Json::array({"c1-2"})) << found;
  // What comes next leans on what is whole, also on a PC that reads the ledgers anew.
  put_file(file(30), noise(60'000, 130));
  EXPECT_EQ(run()["files"]["absent"], 0);
  expect_all("c1-3");
  desk.lose_index();
  expect_all("c1-3");
  expect_all("newest");
  found = desk.json({"verify", "desk", "--contents"}, 4);
  EXPECT_EQ(found["restorable"], Json::array({"c1-2", "c1-3"})) << found;
}

INSTANTIATE_TEST_SUITE_P(Kinds, KnownDamageOf, testing::Values("incremental", "differential"));

class DamageFound : public KnownDamageOf {};
INSTANTIATE_TEST_SUITE_P(Incremental, DamageFound, testing::Values("incremental"));

TEST_P(DamageFound, ByVerifyWithoutASecretNamesFilesAndRestorePoints) {
  begin();
  damaged(part("c1-0", 3), 200'000);
  Environment with_passphrase = desk.environment;
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  Json may_be = desk.json({"verify", "desk"}, 4);
  std::map<std::string, std::string> last;
  for (const Json& loss : may_be["damage"][0]["lost"]) {
    EXPECT_EQ(loss["first"], "c1-0");
    last[loss["path"]] = loss["last"];
  }
  EXPECT_GE(last.size(), 6U);
  EXPECT_EQ(last.size(), may_be["damage"][0]["paths"].size());
  EXPECT_EQ(may_be["lost"][0]["set"], "c1-0");
  EXPECT_EQ(may_be["lost"][0]["files"], last.size());
  EXPECT_TRUE(may_be["restorable"].empty());
  // A file that lies there and was changed since is damaged only as it was.
  if (last.contains(file(7))) {
    EXPECT_EQ(last[file(7)], "c1-0");
  }
  if (last.contains(file(20))) {
    EXPECT_TRUE(last.contains(desk.source() + "/second-name"));
  }
  EXPECT_EQ(state(), "trouble") << "until a run has stored it anew";
  EXPECT_EQ(run()["files"]["copied"],
            last.size() - last.contains(file(7)) - last.contains(desk.source() + "/second-name"));
  EXPECT_EQ(state(), "heed");
  desk.environment = with_passphrase;
  expect_all("newest");
}

TEST_P(DamageFound, ByReadingIsExact) {
  begin({"--protection", "none", "--level", "off"});
  std::string path = desk.set_folder("c1-0") + "/part-000003.tar";
  damaged(path, 200'000);
  Json may_be = desk.json({"verify", "desk"}, 4),
       sure = desk.json({"verify", "desk", "--contents"}, 4);
  EXPECT_EQ(sure["damage"][0]["paths"].size(), 1U) << sure;
  EXPECT_GT(may_be["damage"][0]["paths"].size(), 5U) << may_be;
  std::string lost = sure["damage"][0]["paths"][0];
  Json restored = desk.json({"restore", "desk", "--point", "c1-0", "--to", desk.folder / "out"}, 4);
  ASSERT_EQ(restored["failed"].size(), 1U) << restored;
  EXPECT_EQ(restored["failed"][0]["path"], lost);
  EXPECT_FALSE(path_exists(desk.folder / ("out/" + base_name(lost))));
}

TEST_P(DamageFound, ACopyOfALostFileIsNoReferenceToIt) {
  begin();
  fs::remove(part("c1-0", 3));
  Json found = desk.json({"verify", "desk"}, 4);
  std::string lost = found["damage"][0]["paths"][0];
  fs::copy_file(lost, desk.source() + "/a-copy");
  fs::remove(lost);
  run();
  expect_all("c1-2");
}

TEST_P(DamageFound, WhatIsNotThereToBeStoredAnewIsSaid) {
  begin();
  fs::remove(part("c1-0", 3));
  desk.json({"verify", "desk"}, 4);
  fs::rename(desk.source(), desk.folder / "away");
  Json report = run(1);
  std::string text = report["warnings"].dump();
  EXPECT_NE(text.find("lie in damaged parts"), std::string::npos) << text;
  EXPECT_EQ(state(), "trouble");
  fs::rename(desk.folder / "away", desk.source());
  run();
  EXPECT_EQ(state(), "heed");
  expect_all("newest");
}

TEST_P(DamageFound, OneCopyOfALedgerMakesTheOtherGoodAgain) {
  begin();
  std::string ledger = desk.set_folder("c1-0") + "/ledger.jsonl.zst.age";
  std::string copy = desk.set_folder("c1-0") + "/ledger-copy.jsonl.zst.age";
  std::string text = read_file(ledger);
  ASSERT_EQ(read_file(copy), text);
  fs::remove(ledger);
  EXPECT_EQ(
      desk.kestrum({"restore", "--shelf", desk.shelf(), "--to", desk.folder / "by-copy"}).exit, 0);
  Json report = run(1);
  EXPECT_NE(report["warnings"].dump().find("is mended from ledger-copy"), std::string::npos)
      << report;
  EXPECT_EQ(report["kind"], GetParam());
  EXPECT_EQ(read_file(ledger), text);
  std::string flipped = text;
  flipped[flipped.size() / 2] ^= 1;
  write_file(copy, flipped);
  Json verified = desk.json({"verify", "desk"}, 4);
  EXPECT_EQ(verified["mended"].size(), 1U) << verified;
  EXPECT_EQ(verified["damage"][0]["file"], "ledger-copy.jsonl.zst.age") << verified;
  EXPECT_EQ(verified["restorable"].size(), 3U) << verified;
  EXPECT_EQ(read_file(copy), text);
  EXPECT_EQ(desk.kestrum({"verify", "desk", "--contents"}).exit, 0);
}

TEST_P(DamageFound, NothingFollowsALedgerThatIsLost) {
  begin();
  fs::remove(desk.set_folder("c1-0") + "/ledger-copy.jsonl.zst.age");
  fs::remove(desk.set_folder("c1-0") + "/ledger.jsonl.zst.age");
  Json found = desk.json({"verify", "desk"}, 4);
  EXPECT_TRUE(found["restorable"].empty()) << found;
  Json report = run();
  EXPECT_EQ(report["set"], "c2-0");
  EXPECT_EQ(report["kind"], "full");
  EXPECT_EQ(run()["set"], "c2-1") << "once is enough";
  EXPECT_EQ(desk.json({"verify", "desk"}, 4)["restorable"], Json::array({"c2-0", "c2-1"}));
}

TEST_P(DamageFound, InTheMiddleOfAChainTakesNoYoungSetWithIt) {
  begin();
  put_file(file(8), noise(60'000, 108));
  run();
  std::string middle = desk.set_folder("c1-1"), aside = desk.folder / "aside";
  fs::rename(middle, aside);
  Json found = desk.json({"verify", "desk"}, 4);
  EXPECT_EQ(found["restorable"], Json::array({"c1-0"})) << found;
  EXPECT_EQ(found["damage"][0]["paths"], Json::array({file(7)})) << found;
  EXPECT_EQ(found["lost"].size(), 1U) << found;
  EXPECT_EQ(found["lost"][0]["set"], "c1-2");
  // What can be read is given back, and the rest is named.
  Json restored = desk.json({"restore", "desk", "--to", desk.folder / "out"}, 4);
  EXPECT_EQ(restored["failed"].size(), 1U) << restored;
  EXPECT_EQ(restored["restored"].size(), 41U) << "with the folder";
  Json report = run();
  EXPECT_EQ(report["kind"], "full") << "nothing can follow";
  EXPECT_TRUE(report["pruned"].empty()) << "it may be found again: " << report;
  fs::rename(aside, middle);
  EXPECT_EQ(desk.json({"verify", "desk"})["restorable"].size(), 4U);
}

TEST_P(DamageFound, InTheNewestSealIsNoReasonToGiveBackAnOlderFileInSilence) {
  begin();
  std::string seal = desk.set_folder("c1-1") + "/seal.json";
  write_file(seal, "nonsense");
  Ran ran = desk.kestrum({"restore", "desk", "file7", "--to", desk.folder / "out"});
  EXPECT_EQ(ran.exit, 4) << ran.out << ran.err;
  EXPECT_NE(ran.err.find("c1-1 cannot be used"), std::string::npos) << ran.err;
  EXPECT_EQ(read_file(desk.folder / "out/file7"), noise(60'000, 7));
  EXPECT_EQ(
      desk.kestrum({"restore", "desk", "file7", "--to", desk.folder / "out2", "--point", "c1-0"})
          .exit,
      0)
      << "that is what was asked for";
  ran = desk.kestrum({"restore", "desk", "file7", "--to", desk.folder / "out3", "--point", "c1-1"});
  EXPECT_EQ(ran.exit, 4) << ran.err;
  EXPECT_NE(ran.err.find("c1-1 cannot be used"), std::string::npos) << ran.err;
}

TEST_P(DamageFound, InACopyOfTheShelfIsNotTakenForOurs) {
  begin({"--protection", "none"});
  std::string copy = desk.folder / "copy";
  fs::copy(desk.shelf(), copy, fs::copy_options::recursive);
  fs::remove(copy + "/sets/" + base_name(desk.set_folder("c1-0")) + "/part-000003.tar.zst");
  EXPECT_EQ(desk.kestrum({"verify", "--shelf", copy}).exit, 4);
  EXPECT_EQ(state(), "fine");
  EXPECT_EQ(run()["files"]["copied"], 0);
}

TEST_P(DamageFound, AndMendedByHandIsForgotten) {
  begin();
  std::string path = part("c1-0", 3);
  fs::rename(path, desk.folder / "aside");
  desk.json({"verify", "desk"}, 4);
  EXPECT_EQ(state(), "trouble");
  fs::rename(desk.folder / "aside", path);
  desk.json({"verify", "desk"});
  EXPECT_EQ(state(), "fine");
  EXPECT_EQ(run()["files"]["copied"], 0);
}

TEST_P(DamageFound, AChainWithItIsNotCountedOnAndNotRemoved) {
  begin({"--keep-for", "0 days", "--keep-chains", "1"});
  fs::remove(part("c1-0", 3));
  desk.json({"verify", "desk"}, 4);
  desk.json({"run", "desk", "--kind", "full"});
  desk.json({"run", "desk", "--kind", "full"});
  auto there = [&] {
    std::set<std::string> sets;
    Json found = desk.json({"sets", "desk"}, 4);
    for (const Json& chain : found["chains"]) {
      for (const Json& set : chain["sets"]) sets.insert(set["set"]);
    }
    return sets;
  };
  using Sets = std::set<std::string>;
  EXPECT_EQ(there(), (Sets{"c1-0", "c3-0"})) << "what is damaged is for a person to delete";
  fs::remove(part("c3-0", 2));
  desk.json({"verify", "desk"}, 4);
  desk.json({"run", "desk", "--kind", "full"});
  fs::remove(part("c4-0", 2));
  desk.json({"verify", "desk"}, 4);
  desk.json({"prune", "desk"});
  EXPECT_EQ(there(), (Sets{"c1-0", "c3-0", "c4-0"}));
}

}  // namespace
}  // namespace kestrum::test
