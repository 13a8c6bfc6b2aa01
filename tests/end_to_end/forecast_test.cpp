// A forecast says what the run then does.
#include <gtest/gtest.h>

#include <cmath>
#include <filesystem>

#include "demo/desk_data.h"
#include "kestrum/base/file.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

TEST(ForecastOfARun, SaysWhatTheRunThenDoes) {
  Desk desk;
  TreeMaker tree(desk.source(), 7);
  tree.grow(120);
  desk.define({"--protection", "none"});
  for (int day = 0; day < 8; ++day) {
    Json forecast = desk.json({"forecast", "desk"});
    Json run = desk.json({"run", "desk"})["runs"][0];
    EXPECT_EQ(forecast["set"], run["set"]);
    EXPECT_EQ(forecast["kind"], run["kind"]);
    for (const char* word : {"seen", "absent", "left_out"}) {
      EXPECT_EQ(forecast["files"][word], run["files"][word]) << word << " on day " << day;
    }
    // Without reading, a touched file cannot be told from a changed one, nor a copy from a new
    // file.
    EXPECT_GE(forecast["files"]["copied"].get<int>() + forecast["files"]["moved"].get<int>(),
              run["files"]["copied"].get<int>());
    EXPECT_GE(forecast["files"]["gone"], run["files"]["gone"]);
    EXPECT_GE(forecast["bytes"]["to_copy"], run["bytes"]["copied"]);
    tree.change(20);
  }
}

TEST(ForecastOfARun, KnowsWhatIsMovedGoneAbsentAndLeftOut) {
  Desk desk;
  for (int i = 0; i < 9; ++i) {
    put_file(desk.source() + "/" + std::to_string(i) + ".txt",
             noise(1000 + static_cast<unsigned>(i), 1));
  }
  fs::create_directories(desk.folder / "other");
  put_file(desk.folder / "other/file", "x");
  desk.define({"--protection", "none", "--from", desk.folder / "other"});
  // Older than the clock's tick, so that nothing needs reading again.
  run_script("find '" + desk.source() + "' -type f | xargs touch -d '2026-01-01'");
  desk.kestrum({"run", "desk"});
  ::usleep(2'100'000);
  desk.kestrum({"run", "desk"});
  fs::rename(desk.source() + "/0.txt", desk.source() + "/moved.txt");
  fs::remove(desk.source() + "/1.txt");
  put_file(desk.source() + "/2.txt", "changed");
  put_file(desk.source() + "/new.txt", "new");
  put_file(desk.source() + "/draft.tmp", "litter");
  fs::rename(desk.folder / "other", desk.folder / "other-away");
  Json forecast = desk.json({"forecast", "desk", "--files"});
  std::map<std::string, std::string> fate;
  for (const Json& item : forecast["list"])
    fate[base_name(item["path"].get<std::string>())] = item["what"];
  EXPECT_EQ(fate["moved.txt"], "moved");
  EXPECT_EQ(fate["1.txt"], "gone");
  EXPECT_EQ(fate["2.txt"], "changed");
  EXPECT_EQ(fate["3.txt"], "same");
  EXPECT_EQ(fate["new.txt"], "new");
  EXPECT_EQ(fate["draft.tmp"], "left out");
  EXPECT_EQ(fate["file"], "absent");
  EXPECT_EQ(forecast["files"]["gone"], 1) << "what moved is not gone";
  EXPECT_EQ(forecast["left_out"]["leave_out_litter"]["files"], 1);
}

TEST(ForecastOfARun, WritesNothingAndNeedsNoDisk) {
  Desk desk;
  put_file(desk.source() + "/file.txt", "one");
  desk.define({"--protection", "none"});
  desk.kestrum({"run", "desk"});
  auto everything = [&] { return difference({}, tree_of(desk.disk())); };
  std::string before = everything();
  EXPECT_EQ(desk.kestrum({"forecast", "desk"}).exit, 0);
  EXPECT_EQ(everything(), before);
  fs::rename(desk.disk(), desk.disk() + "-away");
  Json forecast = desk.json({"forecast", "desk"});
  EXPECT_TRUE(forecast["room"]["free"].is_null());
  EXPECT_EQ(forecast["set"], "c1-1");
  EXPECT_NE(forecast["away"].get<std::string>().find("not plugged in"), std::string::npos);
}

TEST(ForecastOfARun, EstimatesTheSizeOfTheDemosDesksWithinAQuarter) {
  Desk desk;
  demo::FrontDesk front_desk(desk.source() + "/front-desk");
  demo::Studio studio(desk.source() + "/studio");
  demo::Newsroom newsroom(desk.source() + "/newsroom");
  front_desk.fill();
  studio.fill();
  newsroom.fill();
  for (const char* name : {"front-desk", "studio", "newsroom"}) {
    ASSERT_EQ(desk.kestrum({"job", "new", name, "--from", desk.source() + "/" + name, "--to",
                            desk.disk(), "--same-disk", "--protection", "none"})
                  .exit,
              0);
    double estimate = desk.json({"forecast", name})["bytes"]["estimated_stored"];
    Ran ran = desk.kestrum({"run", name, "--json"});
    double stored = Json::parse(ran.out)["runs"][0]["bytes"]["stored"];
    EXPECT_NEAR(estimate, stored, 0.25 * stored) << name;
  }
}

TEST(ForecastOfARun, EstimatesASystemFolderWithinAQuarter) {
  Desk desk;
  std::string folder = "/usr/include";
  if (!path_exists(folder)) GTEST_SKIP() << "no " << folder;
  ASSERT_EQ(desk.kestrum({"job", "new", "desk", "--from", folder, "--to", desk.disk(),
                          "--same-disk", "--protection", "none"})
                .exit,
            0);
  double estimate = desk.json({"forecast", "desk"})["bytes"]["estimated_stored"];
  double stored =
      Json::parse(desk.kestrum({"run", "desk", "--json"}).out)["runs"][0]["bytes"]["stored"];
  EXPECT_NEAR(estimate, stored, 0.25 * stored);
}

TEST(ForecastOfARun, SaysWhyAPathIsInOrOut) {
  Desk desk;
  put_file(desk.source() + "/letter.odt", "x");
  put_file(desk.source() + "/song.mp3", "x");
  put_file(desk.source() + "/old.bak", "x");
  put_file(desk.source() + "/.cache/thing.odt", "x");
  put_file(desk.source() + "/tagged/CACHEDIR.TAG", "Signature: 8a477f597d28d172789f06886806bc55\n");
  put_file(desk.source() + "/tagged/a.odt", "x");
  desk.define({"--protection", "none", "--only", "documents", "--leave-out", "*.bak"});
  auto why = [&](const std::string& name) {
    Json answer = desk.json(
        {"forecast", "desk", "--why", name.starts_with('/') ? name : desk.source() + "/" + name});
    return answer["why"][0].get<std::string>();
  };
  EXPECT_EQ(why("letter.odt").substr(0, 3), "in:");
  EXPECT_EQ(why("song.mp3"), "out: only: \".mp3\" belongs to music");
  EXPECT_EQ(why("old.bak"), "out: leave_out = \"*.bak\"");
  EXPECT_EQ(why(".cache/thing.odt"), "out: litter \".cache\" (leave_out_litter)");
  EXPECT_NE(why("tagged/a.odt").find("CACHEDIR.TAG"), std::string::npos);
  EXPECT_NE(why("/etc/passwd").find("in none of the job's folders"), std::string::npos);
  EXPECT_NE(why("nothing.odt").find("if it were there"), std::string::npos);
}

// Text all the time, and then something that will not shrink: what is new is looked at, not what
// was.
TEST(ForecastOfARun, IsNotMisledByWhatShrankBefore) {
  Desk desk;
  std::string text;
  while (text.size() < 2'000'000) text += "minutes of the meeting of the evening desk\n";
  put_file(desk.source() + "/minutes.txt", text);
  desk.define({"--protection", "none"});
  for (int i = 0; i < 4; ++i) {
    put_file(desk.source() + "/minutes.txt", text + std::to_string(i));
    ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  }
  put_file(desk.source() + "/take.wav", noise(3'000'000, 5));
  Json forecast = desk.json({"forecast", "desk"});
  double estimate = forecast["bytes"]["estimated_stored"];
  double off_by = forecast["bytes"]["estimated_off_by"];
  double stored = desk.json({"run", "desk"})["runs"][0]["bytes"]["stored"];
  EXPECT_NEAR(estimate, stored, 0.05 * stored);
  EXPECT_LE(std::abs(estimate - stored), off_by);
}

TEST(ForecastOfARun, ForeseesWhenTheShelfHoldsMoreThanAtMostAndTheRunWarns) {
  Desk desk;
  desk.on_day(0);
  put_file(desk.source() + "/noise", noise(1'000'000, 1));
  desk.define({"--protection", "none", "--kind", "full", "--keep-for", "10 days", "--at-most",
               "3.5 MB", "--when", "every day at 21:00"});
  Json plan = desk.json({"forecast", "desk"})["plan"];
  EXPECT_EQ(plan["above_at_most_at"], "2026-03-04T21:00:00Z") << plan;
  Ran ran = desk.kestrum({"forecast", "desk"});
  EXPECT_NE(ran.out.find("The shelf holds more than at_most from Wed 2026-03-04 on"),
            std::string::npos)
      << ran.out;
  for (int day = 0; day < 3; ++day) {
    desk.on_day(day);
    put_file(desk.source() + "/noise", noise(1'000'000, 10 + static_cast<unsigned>(day)));
    ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0) << day;
  }
  desk.on_day(3);
  put_file(desk.source() + "/noise", noise(1'000'000, 20));
  Json run = desk.json({"run", "desk"}, 1)["runs"][0];
  EXPECT_EQ(run["outcome"], "done with warnings");
  EXPECT_NE(run["warnings"].dump().find("more than the 3.50 MB of at_most"), std::string::npos)
      << run["warnings"];
}

TEST(ForecastOfARun, SaysWhenItWillNotFit) {
  Desk desk;
  put_file(desk.source() + "/noise", noise(9'000'000, 1));
  if (run_program({"mount", "-t", "tmpfs", "-o", "size=4m", "tmpfs", desk.disk()}).exit != 0) {
    GTEST_SKIP() << "needs root to mount a small disk";
  }
  desk.define({"--protection", "none"});
  Json forecast = desk.json({"forecast", "desk"}, 6);
  EXPECT_EQ(forecast["room"]["enough"], false);
  run_program({"umount", desk.disk()});
}

}  // namespace
}  // namespace kestrum::test
