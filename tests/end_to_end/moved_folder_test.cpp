// A folder of the job that was moved: told at each run, and trouble when nobody has looked for two
// weeks.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class MovedAway : public testing::Test {
 protected:
  void SetUp() override {
    desk.on_day(0);
    for (int i = 0; i < 8; ++i) put_file(docs() + "/" + letter(i), "a letter");
    put_file(docs() + "/Rotas/week 9", "a rota");
    put_file(desk.source() + "/mail", "mail");
    put_file(desk.folder / ("other/" + letter(1)), "one of the same name is not enough");
    desk.define({"--protection", "passphrase", "--from", docs()});
    run(0, 0);
  }
  std::string docs() const { return desk.folder / "home/designer/Documents"; }
  // Not called as what another test has, which may run beside this one: that would be like it.
  std::string letter(int i) const {
    return base_name(desk.folder.path()) + " letter " + std::to_string(i);
  }
  Json run(int day, int exit) {
    desk.on_day(day);
    return desk.json({"run", "desk"}, exit)["runs"][0];
  }
  Json status(int day) {
    desk.on_day(day);
    return desk.json({"status", "desk"})["jobs"][0];
  }
  static std::string why(const Json& status) {
    std::string text;
    for (const Json& line : status["why"]) text += line.get<std::string>() + "\n";
    return text;
  }
  Desk desk;
};

TEST_F(MovedAway, IsTroubleAfterTwoWeeksAndNamesWhereItMayBe) {
  std::string now_at = desk.folder / "home/designer/Work (new)/Papers";
  fs::create_directories(parent_of(now_at));
  fs::rename(docs(), now_at);
  put_file(now_at + "/" + letter(9), "it is worked in");
  Json first = run(1, 1);
  ASSERT_EQ(first["away"].size(), 1u) << first.dump(1);
  EXPECT_EQ(first["away"][0]["path"], docs());
  EXPECT_EQ(first["away"][0]["may_be_at"], now_at);
  EXPECT_EQ(first["files"]["absent"], 9);
  EXPECT_EQ(status(1)["state"], "heed");
  EXPECT_TRUE(Json::parse(read_file(desk.shelf() + "/last-run.json"))["away"].is_null())
      << "no name leaves the PC";
  run(8, 1);
  EXPECT_EQ(status(14)["state"], "heed") << why(status(14));
  Json long_away = status(15);
  EXPECT_EQ(long_away["state"], "trouble");
  std::string text = why(long_away);
  EXPECT_NE(text.find(docs() + " is away since Mon 2026-03-02"), std::string::npos) << text;
  EXPECT_NE(text.find("kestrum job set desk source.folders '" + now_at + "' --add"),
            std::string::npos)
      << text;
  EXPECT_NE(text.find("kestrum trust desk --gone-for-good " + docs() + " --because TEXT"),
            std::string::npos)
      << text;
  // A disk that was away meanwhile, or a run that failed, does not begin it anew.
  fs::rename(desk.disk(), desk.folder / "drawer");
  run(15, 5);
  fs::rename(desk.folder / "drawer", desk.disk());
  EXPECT_NE(why(status(16)).find("is away since Mon 2026-03-02"), std::string::npos);

  // What is told is done.
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "source.folders", now_at, "--add"}).exit, 0);
  Json added = run(16, 1);
  EXPECT_EQ(added["files"]["moved"], 9) << added.dump(1);
  EXPECT_NE(why(status(16)).find(", which the job copies"), std::string::npos) << why(status(16));
  ASSERT_EQ(desk.kestrum({"trust", "desk", "--gone-for-good", docs(), "--because", "moved"}).exit,
            0);
  EXPECT_EQ(why(status(16)).find("is away"), std::string::npos) << "somebody has looked";
  EXPECT_NE(desk.kestrum({"history", "desk"}).out.find("is gone for good because moved"),
            std::string::npos);
  Json gone = run(17, 0);
  EXPECT_EQ(gone["away"], Json::array());
  EXPECT_EQ(status(17)["state"], "fine") << why(status(17));
}

TEST_F(MovedAway, ComesBackAndBeginsAnew) {
  fs::rename(docs(), desk.folder / "elsewhere");
  run(1, 1);
  fs::rename(desk.folder / "elsewhere", docs());
  EXPECT_EQ(run(10, 0)["away"], Json::array());
  EXPECT_EQ(status(20)["state"], "fine") << why(status(20));
  fs::rename(docs(), desk.folder / "elsewhere");
  run(20, 1);
  EXPECT_EQ(why(status(21)).find("is away"), std::string::npos);
  EXPECT_NE(why(status(34)).find("is away since Sat 2026-03-21"), std::string::npos)
      << why(status(34));
}

// Names alone say where it may be: of few, or of none that is like it, nothing is said.
TEST_F(MovedAway, NamesNoFolderThatIsNotLikeIt) {
  fs::remove_all(docs());
  fs::create_directories(desk.folder / "home/designer/Pictures");
  put_file(desk.folder / ("home/designer/Pictures/" + letter(2)), "not a letter");
  fs::create_directory_symlink(desk.folder / "other", desk.folder / "home/designer/link");
  Json first = run(1, 1);
  EXPECT_TRUE(first["away"][0]["may_be_at"].is_null()) << first.dump(1);
  std::string text = why(status(15));
  EXPECT_NE(text.find(docs() + " is away since"), std::string::npos) << text;
  EXPECT_EQ(text.find("it may be at"), std::string::npos) << text;
}

}  // namespace
}  // namespace kestrum::test
