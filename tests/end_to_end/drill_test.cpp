// The drill: random files are restored, compared, thrown away, and remembered.
#include <gtest/gtest.h>

#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

class Drill : public testing::Test {
 protected:
  void make_sets() {
    for (int i = 0; i < 30; ++i) {
      put_file(desk.source() + "/file-" + std::to_string(i),
               noise(20'000, static_cast<unsigned>(i)));
    }
    desk.kestrum({"run", "desk"});
    put_file(desk.source() + "/file-3", "changed since");
    desk.kestrum({"run", "desk"});
  }
  bool scratch_is_empty() { return list_folder(desk.folder / "home/state/drill").empty(); }
  Desk desk;
};

TEST_F(Drill, BringsBackRandomFilesOfEveryRestorePointAndLeavesNothing) {
  desk.define();
  EXPECT_EQ(desk.kestrum({"drill", "desk"}).exit, 9) << "there is nothing yet";
  make_sets();
  Json found = desk.json({"drill", "desk", "--files", "25"});
  EXPECT_EQ(found["files"], 25);
  EXPECT_EQ(found["restore_points"], 2);
  EXPECT_GT(found["bytes"], 20'000 * 20);
  EXPECT_TRUE(found["mismatches"].empty());
  EXPECT_TRUE(scratch_is_empty());
  Json status = desk.json({"status", "desk"})["jobs"][0];
  EXPECT_EQ(status["last_drill"]["files"], 25);
  EXPECT_EQ(status["last_drill"]["mismatches"], 0);
  // More than there are: all of them, each once.
  EXPECT_GE(desk.json({"drill", "desk", "--files", "500"})["files"], 31);
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  EXPECT_EQ(desk.kestrum({"drill", "desk"}).exit, 7);
  EXPECT_EQ(desk.kestrum({"drill", "desk", "--files", "none"}).exit, 2);
}

TEST_F(Drill, FromTheDeskCountsOnThePcAndSaysWhoseWordItIs) {
  desk.define();
  make_sets();
  Desk support("support-pc");
  support.environment["KESTRUM_HOST"] = "support-pc";
  ASSERT_EQ(support.json({"drill", "--shelf", desk.shelf(), "--files", "5"})["files"], 5);
  EXPECT_EQ(desk.json({"status", "desk"})["jobs"][0]["last_drill"]["files"], 5);
  EXPECT_NE(
      desk.kestrum({"status", "desk"}).out.find("5 files, all came back right, as support-pc says"),
      std::string::npos);
  EXPECT_EQ(desk.kestrum({"verify", "desk"}).exit, 0);  // it is nothing that should not be there
  // What lies there is untrusted: nonsense is nothing.
  for (const char* text : {"", "{]", "[]", "{\"format\":\"kestrum-drill\"}"}) {
    put_file(desk.shelf() + "/last-drill.json", text);
    EXPECT_TRUE(desk.json({"status", "desk"})["jobs"][0]["last_drill"].is_null()) << text;
  }
  // One of this PC's own counts where it is the newer.
  ASSERT_EQ(desk.kestrum({"drill", "desk", "--files", "3"}).exit, 0);
  EXPECT_EQ(desk.json({"status", "desk"})["jobs"][0]["last_drill"]["files"], 3);
}

TEST_F(Drill, NamesWhatDoesNotComeBack) {
  desk.define({"--protection", "none"});
  make_sets();
  std::string part = desk.set_folder("c1-0") + "/part-000001.tar.zst";
  std::string bytes = read_file(part);
  for (std::size_t at = 2000; at < bytes.size() - 2000; at += 1000) bytes[at] ^= 1;
  put_file(part, bytes);
  Json found = desk.json({"drill", "desk", "--files", "10"}, 4);
  EXPECT_FALSE(found["mismatches"].empty());
  EXPECT_TRUE(found["mismatches"][0]["path"].get<std::string>().starts_with(desk.source()));
  EXPECT_TRUE(scratch_is_empty());
  Json status = desk.json({"status", "desk"})["jobs"][0];
  EXPECT_GT(status["last_drill"]["mismatches"], 0);
  EXPECT_EQ(status["state"], "trouble");
}

}  // namespace
}  // namespace kestrum::test
