// A shelf doctored by someone else: refused or contained, and nothing written outside the target.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>

#include "kestrum/archive/set_writer.h"
#include "kestrum/archive/tar.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/shelf/label.h"
#include "kestrum/shelf/ledger.h"
#include "kestrum/shelf/seal.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// Builds an unprotected shelf by hand, line by line, as somebody with a grudge would: everything is
// consistent and only the ledger's claims are evil.
class HostileShelf : public testing::Test {
 protected:
  void SetUp() override {
    crypto_start();
    fs::create_directories(desk.folder / "shelf/sets/c0001-000_2026-03-02_2100Z");
    label.shelf = make_uuid();
    label.job = "desk";
    label.host = "evil-pc";
    label.owner = make_uuid();
    write_file(desk.folder / "shelf/shelf.json", label.to_json());
  }

  LedgerEntry file(const std::string& path, const std::string& content) {
    LedgerEntry line;
    line.entry.path = path;
    line.entry.size = content.size();
    line.entry.mode = 0644;
    line.digest = digest_of(as_bytes(content));
    line.tar_offset = tar.size();
    tar += tar_entry_head(line.entry) + content + std::string(tar_padding(content.size()), '\0');
    return line;
  }
  LedgerEntry link(const std::string& path, const std::string& target) {
    LedgerEntry line;
    line.entry.path = path;
    line.entry.type = EntryType::kLink;
    line.entry.target = target;
    return line;
  }

  // Seals what `tar` holds with these lines, and restores everything.
  Ran restore(const std::vector<std::string>& lines) {
    LocalPlace place(desk.folder / "shelf");
    std::string folder = "sets/c0001-000_2026-03-02_2100Z";
    Packing packing{CompressionLevel::kOff, std::nullopt};
    SetWriter writer(place, folder, {packing, 1'000'000'000, ReadBack::kOff, 1});
    writer.append(as_bytes(tar));
    Seal seal;
    seal.shelf = label.shelf;
    seal.set = {1, 0};
    seal.outcome = "done";
    seal.verified = "no";
    seal.encrypted = false;
    seal.compressed = false;
    seal.parts = writer.finish();
    std::string text =
        "{\"format\":\"kestrum-ledger\",\"version\":1,\"shelf\":\"" + label.shelf +
        "\",\"set\":\"c1-0\",\"kind\":\"full\",\"based_on\":null,\"roots\":[\"/home\"],"
        "\"begun\":\"2026-03-02T21:00:00Z\",\"started\":\"2026-03-02T21:00:00Z\"}\n";
    for (const auto& line : lines) text += line;
    seal.ledger_name = "ledger.jsonl";
    seal.ledger_bytes = text.size();
    seal.ledger_digest = digest_of(as_bytes(text));
    write_file(desk.folder / ("shelf/" + folder + "/ledger.jsonl"), text);
    write_file(desk.folder / ("shelf/" + folder + "/seal.json"), seal.to_json());
    return desk.kestrum({"restore", "--shelf", desk.folder / "shelf", "--to",
                         desk.folder / "out/target", "--layout", "full"});
  }
  // Nothing but the target may have changed.
  void expect_contained() {
    for (const auto& name : list_folder(desk.folder.path())) {
      EXPECT_TRUE(name == "shelf" || name == "out" || name == "source" || name == "disk" ||
                  name == "home")
          << name;
    }
    for (const auto& name : list_folder(desk.folder / "out")) EXPECT_EQ(name, "target");
  }

  Desk desk;
  ShelfLabel label;
  std::string tar;
};

TEST_F(HostileShelf, AnHonestOneIsRestored) {
  std::string a = ledger_line(file("home/a", "content a")),
              b = ledger_line(file("home/b", "content b"));
  Ran ran = restore({a, b});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(read_file(desk.folder / "out/target/home/b"), "content b");
}

TEST_F(HostileShelf, PathsThatClimbOutAreRefused) {
  for (const std::string path :
       {"../escaped", "home/../../escaped", "/tmp/escaped", "home//x", "home/./x"}) {
    tar.clear();
    std::string line = ledger_line(file("home/a", "x"));
    line.replace(line.find("home/a"), 6, path);
    Ran ran = restore({line});
    EXPECT_NE(ran.exit, 0) << path;
    EXPECT_FALSE(path_exists(desk.folder / "out/escaped")) << path;
    EXPECT_FALSE(path_exists("/tmp/escaped")) << path;
  }
}

TEST_F(HostileShelf, ALinkPlantedToRedirectLaterEntriesIsNotFollowed) {
  fs::create_directory(desk.folder / "out");
  fs::create_directory(desk.folder / "home2");
  // "home/d" is a link to the outside, and "home/d/file" comes behind it.
  std::string planted = ledger_line(link("home/d", desk.folder / "home2"));
  std::string through = ledger_line(file("home/d/file", "redirected"));
  restore({planted, through});
  EXPECT_TRUE(fs::is_empty(desk.folder / "home2"));
  fs::remove(desk.folder / "home2");
  expect_contained();
}

TEST_F(HostileShelf, AHardLinkToTheOutsideIsRefused) {
  put_file(desk.folder / "source/precious", "x");
  LedgerEntry line;
  line.entry.path = "home/z";
  line.entry.type = EntryType::kHardlink;
  line.entry.target = "etc/passwd";
  Ran ran = restore({ledger_line(line)});
  EXPECT_NE(ran.exit, 0);
  EXPECT_FALSE(path_exists(desk.folder / "out/target/home/z"));
  std::string text = ledger_line(line);
  text.replace(text.find("etc/passwd"), 10, "../../etc/passwd");
  EXPECT_NE(restore({text}).exit, 0);
}

TEST_F(HostileShelf, ContentThatDoesNotMatchIsNotWrittenUnderItsName) {
  std::string good = ledger_line(file("home/good", "good"));
  LedgerEntry bad = file("home/wrong", "wrong");
  bad.digest = digest_of(as_bytes("something else"));
  Ran ran = restore({good, ledger_line(bad)});
  EXPECT_EQ(ran.exit, 4);
  EXPECT_TRUE(path_exists(desk.folder / "out/target/home/good"));
  EXPECT_EQ(list_folder(desk.folder / "out/target/home").size(), 1U) << "not even a temporary file";
}

TEST_F(HostileShelf, SizesAndOffsetsThatAreLiesAreRefused) {
  std::string line = ledger_line(file("home/a", "x"));
  auto with = [&](const std::string& from, const std::string& to) {
    std::string text = line;
    text.replace(text.find(from), from.size(), to);
    return restore({text}).exit;
  };
  EXPECT_EQ(with("\"size\":1", "\"size\":9000000000000000"), 4);
  EXPECT_EQ(with("\"tar_offset\":0", "\"tar_offset\":9000000000000000"), 4);
  EXPECT_EQ(with("\"tar_offset\":0", "\"tar_offset\":7"), 4);
  EXPECT_NE(with("\"size\":1", "\"size\":-1"), 0);
}

TEST_F(HostileShelf, ASealThatNamesFilesElsewhereIsRefused) {
  std::string line = ledger_line(file("home/a", "x"));
  ASSERT_EQ(restore({line}).exit, 0);
  std::string seal = desk.folder / "shelf/sets/c0001-000_2026-03-02_2100Z/seal.json";
  std::string text = read_file(seal);
  text.replace(text.find("ledger.jsonl"), 12, "../../../../etc/passwd");
  write_file(seal, text);
  Ran ran =
      desk.kestrum({"restore", "--shelf", desk.folder / "shelf", "--to", desk.folder / "out2"});
  EXPECT_NE(ran.exit, 0);
  EXPECT_FALSE(path_exists(desk.folder / "out2"));
}

TEST_F(HostileShelf, AnythingAtAllInItsFilesEndsInAnErrorNotACrash) {
  std::string line = ledger_line(file("home/a", "content"));
  ASSERT_EQ(restore({line}).exit, 0);
  std::string folder = desk.folder / "shelf/sets/c0001-000_2026-03-02_2100Z/";
  for (const std::string name : {"seal.json", "ledger.jsonl", "part-000001.tar"}) {
    std::string good = read_file(folder + name);
    for (const std::string& bad :
         {std::string(), std::string("\0\0\0\0", 4), std::string("{"), std::string("[]"),
          std::string("null"), good.substr(0, good.size() / 2), good + good,
          std::string(100'000, '['), noise(5000, 1)}) {
      write_file(folder + name, bad);
      for (const std::string command : {"verify", "sets", "restore"}) {
        std::vector<std::string> words = {command, "--shelf", desk.folder / "shelf"};
        if (command == "restore") words.insert(words.end(), {"--to", desk.folder / "out3"});
        Ran ran = desk.kestrum(words);
        EXPECT_LT(ran.exit, 128) << command << " of " << name << ": " << ran.err;
      }
    }
    write_file(folder + name, good);
  }
  EXPECT_EQ(desk.kestrum({"verify", "--shelf", desk.folder / "shelf"}).exit, 0);
}

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

}  // namespace
}  // namespace kestrum::test
