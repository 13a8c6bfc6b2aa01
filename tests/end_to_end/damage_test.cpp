// Damage is found, told exactly, and contained.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <fstream>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

void flip(const std::string& path, std::uint64_t offset) {
  std::fstream file(path, std::ios::in | std::ios::out | std::ios::binary);
  file.seekg(static_cast<std::streamoff>(offset));
  char c = static_cast<char>(file.get() ^ 0x20);
  file.seekp(static_cast<std::streamoff>(offset));
  file.put(c);
}

class DamageOn : public testing::Test {
 protected:
  void SetUp() override {
    for (int i = 0; i < 40; ++i) {
      put_file(desk.source() + "/file" + std::to_string(i),
               noise(60'000, static_cast<unsigned>(i)));
    }
    desk.define({"--part-size", "500 kB"});
    ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
    fs::rename(desk.source() + "/file20", desk.source() + "/moved");
    put_file(desk.source() + "/late", "late");
    ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  }
  // Damages a byte, verifies, and mends it again.
  Json verify_with_flip(const std::string& path, std::uint64_t offset, bool contents = false) {
    flip(path, offset);
    std::vector<std::string> words = {"verify", "desk"};
    if (contents) words.push_back("--contents");
    Json json = desk.json(words, 4);
    if (json["mended"].empty()) flip(path, offset);
    return json;
  }
  Desk desk;
};

TEST_F(DamageOn, AnyByteOfAnyFileOfASetIsFoundAndNamedWithoutASecret) {
  for (const std::string set : {"c1-0", "c1-1"}) {
    std::string folder = desk.set_folder(set);
    for (const auto& name : list_folder(folder)) {
      std::uint64_t size = fs::file_size(folder + "/" + name);
      for (std::uint64_t offset : {std::uint64_t{0}, size / 3, size / 2, size - 2}) {
        // The first line of a signature is the part that minisign calls untrusted.
        if (name.ends_with(".minisig") && offset < 45) continue;
        Json json = verify_with_flip(folder + "/" + name, offset);
        ASSERT_GE(json["damage"].size(), 1U) << name << " at " << offset;
        EXPECT_EQ(json["damage"][0]["set"], set) << name << " at " << offset;
        std::string file = json["damage"][0]["file"];
        bool named =
            file == name || (name.starts_with("seal.json") && file.starts_with("seal.json"));
        EXPECT_TRUE(named) << name << " at " << offset << ": " << json.dump();
      }
    }
  }
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 0) << "all is mended";
}

TEST_F(DamageOn, APartNamesThePathsThatItHurtsAtEveryRestorePoint) {
  std::string part = desk.set_folder("c1-0") + "/part-000003.tar.zst.age";
  Json json = verify_with_flip(part, 200'000, true);
  ASSERT_EQ(json["damage"].size(), 1U);
  EXPECT_EQ(json["damage"][0]["file"], "part-000003.tar.zst.age");
  std::set<std::string> damaged;
  for (const Json& path : json["damage"][0]["paths"]) damaged.insert(path);
  EXPECT_GE(damaged.size(), 1U);
  EXPECT_LE(damaged.size(), 12U);
  EXPECT_TRUE(json["restorable"].empty());

  // What verify names is what a restore cannot give back, and nothing else.
  flip(part, 200'000);
  Ran ran =
      desk.kestrum({"restore", "desk", "--to", desk.folder / "out", "--point", "c1-0", "--json"});
  EXPECT_EQ(ran.exit, 4);
  Json restored = Json::parse(ran.out);
  std::set<std::string> failed;
  for (const Json& item : restored["failed"]) failed.insert(item["path"]);
  std::set<std::string> at_that_time = damaged;
  at_that_time.erase(desk.source() + "/moved");
  EXPECT_EQ(failed, at_that_time);
  EXPECT_EQ(restored["restored"].size(), 41U - failed.size());
  for (const auto& path : failed) EXPECT_FALSE(path_exists(desk.folder / "out/" + base_name(path)));
}

TEST_F(DamageOn, AMovedFileIsHurtUnderItsNewNameToo) {
  for (int part = 1; part <= 6; ++part) {
    std::string path =
        desk.set_folder("c1-0") + "/part-00000" + std::to_string(part) + ".tar.zst.age";
    if (!path_exists(path)) continue;
    Json json = verify_with_flip(path, 1000, true);
    Json paths = json["damage"][0]["paths"];
    bool old_name = std::find(paths.begin(), paths.end(), desk.source() + "/file20") != paths.end();
    bool new_name = std::find(paths.begin(), paths.end(), desk.source() + "/moved") != paths.end();
    EXPECT_EQ(old_name, new_name) << part;
  }
}

TEST_F(DamageOn, AMissingPartOrSetIsNamedAndWhatIsWholeIsTold) {
  std::string part = desk.set_folder("c1-1") + "/part-000001.tar.zst.age";
  fs::rename(part, desk.folder / "aside");
  Json json = desk.json({"verify", "desk"}, 4);
  EXPECT_EQ(json["restorable"], Json::array({"c1-0"}));
  fs::rename(desk.folder / "aside", part);

  std::string base = desk.set_folder("c1-0");
  fs::rename(base, desk.folder / "aside");
  json = desk.json({"verify", "desk"}, 4);
  EXPECT_TRUE(json["restorable"].empty());
  EXPECT_NE(json.dump().find("c1-0"), std::string::npos);
  // The next run does not build on it.
  Json report = desk.json({"run", "desk"})["runs"][0];
  EXPECT_EQ(report["set"], "c2-0");
}

TEST_F(DamageOn, ARolledBackShelfIsNoticed) {
  fs::rename(desk.set_folder("c1-1"), desk.folder / "aside");
  Json json = desk.json({"verify", "desk"}, 4);
  EXPECT_EQ(json["damage"][0]["set"], "c1-1");
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_NE(ran.err.find("rolled back"), std::string::npos) << ran.err;
}

TEST_F(DamageOn, AForgedLabelIsNotWrittenTo) {
  std::string label = desk.shelf() + "/shelf.json";
  std::string text = read_file(label);
  std::string other = text;
  other.replace(other.find("\"host\": \"test-pc\""), 17, "\"host\": \"evil-pc\"");
  write_file(label, other);
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 4);
  other = text;
  std::size_t at = other.find("age1");
  other.replace(at, 62, "age1qyqszqgpqyqszqgpqyqszqgpqyqszqgpqyqszqgpqyqszqgpqyqs3290gq");
  write_file(label, other);
  Ran ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 4) << ran.err;
  write_file(label, text);
  EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
}

TEST_F(DamageOn, OneIdentityCopyIsEnough) {
  write_file(desk.shelf() + "/keys/identity.age", "gone bad");
  EXPECT_EQ(desk.kestrum({"restore", "desk", "late", "--to", desk.folder / "out"}).exit, 0);
  Json json = desk.json({"verify", "desk"}, 4);
  EXPECT_EQ(json["damage"][0]["file"], "keys/identity.age");
}

TEST_F(DamageOn, TheIndexMayBeGarbage) {
  for (const auto& name : list_folder(desk.folder / "home/state")) {
    std::string index = desk.folder / "home/state/" + name + "/index.sqlite";
    if (path_exists(index)) write_file(index, noise(50'000, 9));
  }
  EXPECT_EQ(desk.kestrum({"restore", "desk", "--to", desk.folder / "out"}).exit, 0);
  Json report = desk.json({"run", "desk"})["runs"][0];
  EXPECT_EQ(report["kind"], "incremental") << "rebuilt with the passphrase at hand";
}

TEST_F(DamageOn, RestoreSkipsWhatIsThereAndNeverFollowsALinkOut) {
  std::string out = desk.folder / "out";
  put_file(out + "/file1", "mine, and newer");
  put_file(out + "/file2", noise(60'000, 2));  // the same already
  Ran ran = desk.kestrum({"restore", "desk", "--to", out, "--json"});
  EXPECT_EQ(ran.exit, 1);
  Json json = Json::parse(ran.out);
  EXPECT_EQ(json["skipped"].size(), 2U);
  EXPECT_EQ(read_file(out + "/file1"), "mine, and newer");
  EXPECT_EQ(desk.kestrum({"restore", "desk", "late", "--to", out}).exit, 0) << "the same already";

  std::string elsewhere = desk.folder / "elsewhere", trap = desk.folder / "trap";
  fs::create_directory(elsewhere);
  fs::create_directory(trap);
  std::string first = desk.source().substr(1, desk.source().find('/', 1) - 1);
  fs::create_symlink(elsewhere, trap + "/" + first);
  EXPECT_EQ(desk.kestrum({"restore", "desk", "late", "--to", trap, "--layout", "full"}).exit, 3);
  EXPECT_TRUE(fs::is_empty(elsewhere));
}

TEST_F(DamageOn, LayoutsPutFilesWhereTheySay) {
  put_file(desk.source() + "/deep/er/late", "another late");
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  auto restored = [&](const std::vector<std::string>& more) {
    fs::remove_all(desk.folder / "out");
    std::vector<std::string> words = {"restore", "desk", "--to", desk.folder / "out"};
    words.insert(words.end(), more.begin(), more.end());
    EXPECT_EQ(desk.kestrum(words).exit, 0);
    std::set<std::string> paths;
    for (const auto& [path, line] : tree_of(desk.folder / "out")) paths.insert(path);
    return paths;
  };
  using Paths = std::set<std::string>;
  EXPECT_EQ(restored({desk.source() + "/deep/er/late"}), Paths{"/late"});
  EXPECT_EQ(restored({"er/late"}), Paths{"/late"});
  EXPECT_EQ(restored({desk.source() + "/deep"}), (Paths{"/er", "/er/late"}));
  EXPECT_EQ(restored({"late"}), (Paths{"/deep", "/deep/er", "/deep/er/late", "/late"}));
  EXPECT_EQ(restored({"late", "--layout", "flat"}), (Paths{"/late", "/late (2)"}));
  EXPECT_TRUE(restored({"late", "--layout", "full"}).contains(desk.source() + "/deep/er/late"));
  EXPECT_EQ(restored({"file3?", "--layout", "flat"}).size(), 10U);
}

}  // namespace
}  // namespace kestrum::test
