// The report: a page that stands by itself, figures that agree with their data, and names of all
// kinds in both.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <algorithm>
#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "support/browser.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class ReportPage : public testing::Test {
 protected:
  void SetUp() override {
    desk.on_day(0);
    put_file(desk.source() + "/" + kHostile, std::string(200'000, 'x'));
    put_file(desk.source() + "/caf\xe9", std::string(150'000, 'y'));
    put_file(desk.source() + "/Letters/one.txt", "one");
  }
  // A run on each of the days from 0 on.
  void run_days(int days, const std::vector<std::string>& more = {}) {
    std::vector<std::string> words = {"--when", "every day at 21:00"};
    words.insert(words.end(), more.begin(), more.end());
    desk.define(words);
    for (int day = 0; day < days; ++day) {
      desk.on_day(day);
      put_file(desk.source() + "/Letters/diary.txt", std::string(1000 * (1 + day), 'd'));
      ASSERT_LE(desk.kestrum({"run", "desk"}).exit, 1);
    }
  }
  std::string out() const { return desk.folder / "report"; }
  std::string page() const { return read_file(out() + "/index.html"); }
  // Rows of a file of the report, without its head.
  std::vector<std::vector<std::string>> csv(const std::string& name) const {
    Ran ran =
        run_program({"python3", "-c",
                     "import csv, json, sys; print(json.dumps(list(csv.reader(open(sys.argv[1], "
                     "newline='', encoding='utf-8')))[1:]))",
                     out() + "/" + name});
    return Json::parse(ran.out).get<std::vector<std::vector<std::string>>>();
  }

  static constexpr const char* kHostile =
      "<script>alert(1)<\xE2\x88\x95script>&\"' `id` ${x} ]]>.txt";
  Desk desk;
};

TEST_F(ReportPage, StandsByItselfForItsOwnerAlone) {
  run_days(4);
  Json told = desk.json({"report", "--out", out()});
  EXPECT_EQ(told["state"], "fine");
  EXPECT_EQ(told["problems"], Json::array());
  EXPECT_EQ(told["path"], out() + "/index.html");
  for (const Json& name : told["files"]) {
    struct stat st {};
    ASSERT_EQ(::stat((out() + "/" + name.get<std::string>()).c_str(), &st), 0) << name;
    EXPECT_EQ(st.st_mode & 07777, 0600U) << name;
    EXPECT_GT(st.st_size, 0) << name;
  }
  EXPECT_EQ(page().find("http://"), page().find("http://www.w3.org"));
  EXPECT_EQ(page().find("https://"), std::string::npos);
  EXPECT_EQ(page().find("src="), std::string::npos);
  EXPECT_EQ(page().find("{{"), std::string::npos);
}

TEST_F(ReportPage, ShowsNamesAsTheyAreAndRunsNone) {
  run_days(2, {"--title", "<b>The desk</b> & more"});
  ASSERT_EQ(desk.kestrum({"report", "--out", out()}).exit, 0);
  EXPECT_EQ(page().find("<script"), std::string::npos);
  EXPECT_NE(page().find("&lt;script&gt;alert(1)"), std::string::npos);
  EXPECT_NE(page().find("&lt;b&gt;The desk&lt;/b&gt; &amp; more"), std::string::npos);
  EXPECT_NE(page().find("caf\\xe9"), std::string::npos);
}

TEST_F(ReportPage, EachFigureIsADocumentAndAgreesWithTheRecords) {
  run_days(5, {"--new-full", "after 2 sets"});
  ASSERT_EQ(desk.kestrum({"job", "set", "desk", "before_run.command", "false"}).exit, 0);
  desk.on_day(5);
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 3);
  ASSERT_EQ(desk.kestrum({"report", "--out", out()}).exit, 0);
  for (const char* name : {"calendar", "stored", "room", "runs"}) {
    std::string file = out() + "/desk-" + name;
    Ran ran = run_program({"python3", "-c",
                           "import sys, xml.dom.minidom as x; d = x.parse(sys.argv[1]); "
                           "print(d.documentElement.tagName)",
                           file + ".svg"});
    EXPECT_EQ(ran.out, "svg\n") << name << ran.err;
    EXPECT_EQ(read_file(file + ".png").substr(1, 3), "PNG") << name;
  }
  Json runs = desk.json({"history", "desk"})["runs"];
  auto rows = csv("desk-runs.csv");
  ASSERT_EQ(rows.size(), runs.size());
  for (std::size_t i = 0; i < rows.size(); ++i) {
    EXPECT_EQ(rows[i][0], runs[i]["run"]);
    EXPECT_EQ(rows[i][2], runs[i]["outcome"]);
    EXPECT_EQ(rows[i][3], runs[i]["set"].is_null() ? Json("") : runs[i]["set"]);
    EXPECT_EQ(rows[i][5], std::to_string(runs[i]["bytes"]["copied"].get<std::uint64_t>()));
  }
  std::uint64_t stored = 0;
  for (const auto& row : csv("desk-stored.csv")) stored += row[3].empty() ? std::stoull(row[4]) : 0;
  EXPECT_EQ(stored, desk.json({"status", "desk"})["jobs"][0]["stored_bytes"].get<std::uint64_t>());
  auto calendar = csv("desk-calendar.csv");
  ASSERT_EQ(calendar.size(), 6U);
  EXPECT_EQ(calendar[5][2], "failed");
  auto largest = csv("desk-largest.csv");
  bool grown = false;
  for (const auto& row : largest)
    grown |= row[0] == "grown" && row[1].ends_with("/diary.txt") && row[3] == "1000";
  EXPECT_TRUE(grown);
}

TEST_F(ReportPage, OfPrunedAndMissedDaysTellsThem) {
  run_days(6, {"--new-full", "after 1 sets", "--keep-for", "1 days"});
  fs::rename(desk.disk(), desk.folder / "drawer");
  desk.on_day(7);
  ASSERT_EQ(desk.kestrum({"run", "--due"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"report", "--out", out()}).exit, 0);
  EXPECT_NE(page().find("missed, or waiting"), std::string::npos);
  EXPECT_NE(page().find("not plugged in"), std::string::npos);
  bool pruned = false, missed = false;
  for (const auto& row : csv("desk-calendar.csv")) {
    pruned |= row[4] == "yes";
    missed |= row[2] == "missed";
  }
  EXPECT_TRUE(pruned);
  EXPECT_TRUE(missed);
  for (const auto& row : csv("desk-stored.csv")) {
    EXPECT_TRUE(row[3].empty() || row[3] > row[2]) << row[0];  // gone after it was taken
  }
}

TEST_F(ReportPage, WithoutGnuplotHasAllButTheFigures) {
  run_days(1);
  std::string bin = desk.folder / "bin";
  fs::create_directories(bin);
  std::string path = std::getenv("PATH");
  desk.environment["PATH"] = bin;
  Ran ran = desk.kestrum({"report", "--out", out()});
  desk.environment["PATH"] = path;
  EXPECT_EQ(ran.exit, 1);
  EXPECT_NE(ran.err.find("gnuplot is not installed"), std::string::npos) << ran.err;
  EXPECT_NE(page().find("restore points"), std::string::npos);
  EXPECT_TRUE(fs::exists(out() + "/desk-runs.csv"));
}

TEST_F(ReportPage, OfNothingAtAllSaysSo) {
  EXPECT_EQ(desk.kestrum({"report"}).exit, 2);
  ASSERT_EQ(desk.kestrum({"report", "--out", out()}).exit, 0);
  EXPECT_NE(page().find("No jobs on this PC"), std::string::npos);
  desk.define();
  ASSERT_EQ(desk.kestrum({"report", "--out", out()}).exit, 0);  // before its first run
  EXPECT_EQ(desk.kestrum({"report", "nobody", "--out", out()}).exit, 2);
  put_file(desk.folder / "a file", "x");
  EXPECT_EQ(desk.kestrum({"report", "--out", desk.folder / "a file"}).exit, 2);
  EXPECT_EQ(desk.kestrum({"report", "--out", desk.folder / "not/there"}).exit, 2);
}

TEST_F(ReportPage, IsReadInABrowserLightDarkAndNarrow) {
  if (!have_browser()) GTEST_SKIP() << "no chromium here";
  run_days(3);
  ASSERT_EQ(desk.kestrum({"report", "--out", out()}).exit, 0);
  for (auto [dark, width] : {std::pair{false, 1280}, {true, 1280}, {false, 500}}) {
    Json seen = look_at_page(out() + "/index.html", dark, width);
    SCOPED_TRACE(std::string(dark ? "dark" : "light") + " " + std::to_string(width) + seen.dump());
    EXPECT_EQ(seen["console"], Json::array());
    ASSERT_TRUE(seen.contains("low"));
    EXPECT_EQ(seen["low"], Json::array());
    EXPECT_EQ(seen["broken"], Json::array());
    EXPECT_EQ(seen["doubled"], Json::array());
    EXPECT_EQ(seen["unnamed"], 0);
    EXPECT_EQ(seen["wide"], false);
    EXPECT_GE(seen["links"].size(), 10U);
  }
}

TEST_F(ReportPage, OfManyPcsIsWorstFirstAndNamesNoFile) {
  run_days(2);
  fs::create_directories(desk.folder / "server/junk");
  put_file(desk.folder /
               "server/<b>bold<\xE2\x88\x95"
               "b>/evil/shelf.json",
           "{]");
  fs::copy(desk.disk() + "/test-pc", desk.folder / "server/test-pc", fs::copy_options::recursive);
  put_file(desk.folder / "pcs.txt", "test-pc\nlost-pc\n");
  Json told = desk.json({"report", "--shelves", desk.folder / "server", "--expect",
                         desk.folder / "pcs.txt", "--out", out()});
  EXPECT_EQ(told["state"], "trouble");
  EXPECT_EQ(page().find("<b>"), std::string::npos);
  EXPECT_EQ(page().find("one.txt"), std::string::npos);
  EXPECT_LT(page().find("lost-pc"), page().find("test-pc desk"));
  auto rows = csv("shelves.csv");
  ASSERT_EQ(rows.size(), 4U);  // and two folders that are no shelves
  EXPECT_TRUE(std::any_of(rows.begin(), rows.end(),
                          [](const auto& row) { return row[0] == "test-pc" && row[2] == "fine"; }));
  std::uint64_t shelves = 0;
  for (const auto& row : csv("shelves-ages.csv")) {
    shelves += std::stoull(row[1]) + std::stoull(row[2]) + std::stoull(row[3]);
  }
  EXPECT_EQ(shelves, 4U);
  if (!have_browser()) return;
  Json seen = look_at_page(out() + "/index.html", false);
  EXPECT_EQ(seen["low"], Json::array());
  EXPECT_EQ(seen["broken"], Json::array());
  EXPECT_EQ(seen["console"], Json::array());
}

}  // namespace
}  // namespace kestrum::test
