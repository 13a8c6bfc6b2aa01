// Choosing what to restore in an editor; here a script.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Choose : public testing::Test {
 protected:
  void SetUp() override {
    put_file(desk.source() + "/Letters/one.odt", "1");
    put_file(desk.source() + "/Letters/two.odt", "22");
    put_file(desk.source() + "/a \\ b\nc.txt", "odd");
    put_file(desk.source() + "/not \xff utf-8", "odder");
    put_file(desk.source() + "/notes.txt", "n");
    desk.define({"--protection", "none"});
    EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  }
  // An editor that is a script, with the list as $1.
  void editor(const std::string& script) {
    put_file(desk.folder / "editor", "#!/bin/sh\n" + script + "\n", 0755);
    desk.environment["VISUAL"] = "";
    desk.environment["EDITOR"] = desk.folder / "editor";
  }
  Ran choose(const std::vector<std::string>& more = {}) {
    std::vector<std::string> words = {"restore", "desk",     "--choose", "--to",
                                      out(),     "--layout", "full"};
    words.insert(words.end(), more.begin(), more.end());
    return desk.kestrum(words);
  }
  std::string out() { return desk.folder / "out"; }
  std::string restored(const std::string& path) { return out() + desk.source() + path; }
  bool no_list_left() {
    for (const std::string& name : list_folder(desk.folder / "home/state")) {
      if (name.starts_with("choice")) return false;
    }
    return true;
  }
  Desk desk;
};

TEST_F(Choose, WhatIsMarkedComesBackAndNothingElse) {
  editor("cp \"$1\" '" + (desk.folder / "list") + "'; stat -c %a \"$1\" >'" +
         (desk.folder / "mode") + "'; sed -i '/two.odt/s/^\\[ \\]/[x]/' \"$1\"");
  Ran ran = choose();
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(read_file(restored("/Letters/two.odt")), "22");
  EXPECT_FALSE(path_exists(restored("/Letters/one.odt")));
  EXPECT_EQ(read_file(desk.folder / "mode"), "600\n");
  EXPECT_TRUE(no_list_left());
  std::string list = read_file(desk.folder / "list");
  EXPECT_NE(list.find("2 files           " + desk.source() + "/Letters/\n"), std::string::npos)
      << list;
  EXPECT_NE(list.find("3 bytes"), std::string::npos) << "the folder's total\n" << list;
}

TEST_F(Choose, AFolderStandsForAllThatIsInIt) {
  editor("sed -i 's/^\\[ \\]\\(.*Letters\\/\\)$/[X]\\1/' \"$1\"");
  EXPECT_EQ(choose().exit, 0);
  EXPECT_TRUE(path_exists(restored("/Letters/one.odt")) &&
              path_exists(restored("/Letters/two.odt")));
  EXPECT_FALSE(path_exists(restored("/notes.txt")));
}

TEST_F(Choose, OddNamesComeBackAsTheyWere) {
  editor("sed -i 's/^\\[ \\]\\(.*\\\\x\\)/x\\1/' \"$1\"");
  Ran ran = choose();
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(read_file(restored("/a \\ b\nc.txt")), "odd");
  EXPECT_EQ(read_file(restored("/not \xff utf-8")), "odder");
  EXPECT_FALSE(path_exists(restored("/notes.txt")));
}

TEST_F(Choose, NothingMarkedDoesNothing) {
  editor("true");
  Ran ran = choose();
  EXPECT_EQ(ran.exit, 0);
  EXPECT_NE(ran.out.find("nothing was marked"), std::string::npos) << ran.out;
  EXPECT_FALSE(path_exists(out()));
  EXPECT_EQ(desk.json({"restore", "desk", "--choose", "--to", out()})["restored"], Json::array());
}

TEST_F(Choose, AMarkOnWhatIsNotThereRestoresNothing) {
  editor("sed -i '/two.odt/s/^\\[ \\]/[x]/; $a [x] 1 byte  2026-01-01 00:00  /etc/passwd' \"$1\"");
  Ran ran = choose();
  EXPECT_EQ(ran.exit, 2);
  EXPECT_NE(ran.err.find("/etc/passwd"), std::string::npos) << ran.err;
  EXPECT_FALSE(path_exists(out()));
  EXPECT_TRUE(no_list_left());
}

TEST_F(Choose, AnEditorThatFailsRestoresNothing) {
  editor("exit 1");
  EXPECT_EQ(choose().exit, 3);
  EXPECT_FALSE(path_exists(out()));
  EXPECT_TRUE(no_list_left());
}

TEST_F(Choose, OnlyWhatLiesBelowAPathIsListed) {
  editor("sed -i 's/^\\[ \\]/[x]/' \"$1\"");
  EXPECT_EQ(
      desk.kestrum({"restore", "desk", "Letters", "--choose", "--to", out(), "--layout", "full"})
          .exit,
      0);
  EXPECT_TRUE(path_exists(restored("/Letters/one.odt")));
  EXPECT_FALSE(path_exists(restored("/notes.txt")));
}

TEST_F(Choose, DoesNotGoWithWhatChoosesByItself) {
  for (const char* option : {"--missing", "--mirror"}) {
    EXPECT_EQ(desk.kestrum({"restore", "desk", "Letters", "--choose", "--in-place", option}).exit,
              2)
        << option;
  }
  EXPECT_EQ(choose({"--point", "last-seen"}).exit, 2);
}

TEST_F(Choose, WhatAForecastNeedNotCopyIsLeftOutAfterAQuestion) {
  put_file(desk.source() + "/Images/big.iso", std::string(50'000, 'b'));
  put_file(desk.source() + "/Images/odd [1].iso", std::string(40'000, 'o'));
  editor("cp \"$1\" '" + (desk.folder / "list") + "'; sed -i '/odd/s/^.x./[ ]/' \"$1\"");
  std::string before = read_file(desk.folder / "home/jobs/desk.toml");
  EXPECT_EQ(desk.kestrum({"forecast", "desk", "--choose"}).exit, 2)
      << "nobody is there to be asked";
  EXPECT_EQ(read_file(desk.folder / "home/jobs/desk.toml"), before);
  Ran ran = desk.kestrum({"forecast", "desk", "--choose", "--yes"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_NE(read_file(desk.folder / "list").find("2 files"), std::string::npos) << "of the folder";
  Json after = desk.json({"forecast", "desk"});
  EXPECT_EQ(after["files"]["copied"], 1) << "big.iso";
  EXPECT_EQ(after["files"]["left_out"], 1);
  EXPECT_TRUE(no_list_left());
  // A folder stands for what is in it, and nothing changed changes nothing.
  editor("true");
  before = read_file(desk.folder / "home/jobs/desk.toml");
  EXPECT_EQ(desk.kestrum({"forecast", "desk", "--choose", "--yes"}).exit, 0);
  EXPECT_EQ(read_file(desk.folder / "home/jobs/desk.toml"), before);
  editor("sed -i '/Images\\/$/s/^.x./[ ]/' \"$1\"");
  EXPECT_EQ(desk.kestrum({"forecast", "desk", "--choose", "--yes"}).exit, 0);
  EXPECT_EQ(desk.json({"forecast", "desk"})["files"]["copied"], 0);
  editor("sed -i 's/^.x. .*/[ ] 1 MB  \\/etc\\/passwd/' \"$1\"; echo '[ ] /etc/passwd' >>\"$1\"");
  EXPECT_EQ(desk.kestrum({"forecast", "desk", "--choose", "--yes"}).exit, 2);
}

class Filters : public Choose {
 protected:
  void SetUp() override {
    Choose::SetUp();
    put_file(desk.source() + "/old.dwg", std::string(5000, 'o'));
    run_script("touch -d '2020-03-04 12:00' '" + desk.source() + "/old.dwg'");
    fs::remove(desk.source() + "/notes.txt");
    EXPECT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  }
  std::set<std::string> names(const Json& json, const char* list) {
    std::set<std::string> names;
    for (const Json& item : json[list]) {
      if (item["path"].is_string()) names.insert(base_name(item["path"].get<std::string>()));
    }
    return names;
  }
};

TEST_F(Filters, OfLookTakeFilesAnywhereBelow) {
  using Names = std::set<std::string>;
  auto look = [&](std::vector<std::string> words) {
    words.insert(words.begin(), {"look", "desk"});
    return names(desk.json(words), "entries");
  };
  EXPECT_EQ(look({"--bigger-than", "4 kB"}), Names{"old.dwg"});
  EXPECT_EQ(look({"--smaller-than", "2"}), Names{"one.odt"});
  EXPECT_EQ(look({"--changed-before", "2021-01"}), Names{"old.dwg"});
  EXPECT_EQ(look({"--changed-after", "2021-01", "--only", "*.odt"}), (Names{"one.odt", "two.odt"}));
  EXPECT_EQ(look({"--gone", "--point", "c1-0"}), Names{"notes.txt"});
  EXPECT_EQ(desk.kestrum({"look", "desk", "--changed-before", "2021"}).exit, 2);
  EXPECT_EQ(desk.kestrum({"look", "desk", "--bigger-than", "much"}).exit, 2);
  EXPECT_EQ(desk.kestrum({"look", "desk", "--only", "documnts"}).exit, 2);
}

TEST_F(Filters, OfTraceTakeVersions) {
  using Names = std::set<std::string>;
  auto trace = [&](std::vector<std::string> words) {
    words.insert(words.begin(), {"trace", "desk"});
    return names(desk.json(words), "versions");
  };
  EXPECT_EQ(trace({"*", "--gone"}), Names{"notes.txt"});
  EXPECT_EQ(trace({"*", "--changed-before", "2020-03-05"}), Names{"old.dwg"});
  EXPECT_EQ(trace({"*", "--changed-before", "2020-04"}), Names{"old.dwg"});
  EXPECT_EQ(trace({"*", "--only", "*.dwg"}), Names{"old.dwg"});
  EXPECT_EQ(trace({"*", "--only", "documents"}),
            (Names{"a \\ b\nc.txt", "notes.txt", "one.odt", "two.odt"}));
}

}  // namespace
}  // namespace kestrum::test
