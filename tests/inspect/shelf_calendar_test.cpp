#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/base/units.h"
#include "kestrum/report/calendar_figure.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

LocalDay march(unsigned day) {
  return LocalDay{date::year{2026} / 3 / day};
}

std::size_t count(const std::string& text, const std::string& word) {
  std::size_t found = 0;
  for (std::size_t at = text.find(word); at != std::string::npos; at = text.find(word, at + 1))
    ++found;
  return found;
}

TEST(Calendar, ShowsADaysSetAndWhetherItCanBeRestored) {
  std::vector<CalendarDay> calendar = {
      {march(1), {{{1, 0}, SetKind::kFull, false, false, false}}, false},
      {march(2), {}, true},
      {march(3), {{{2, 0}, SetKind::kFull, true, true, false}}, false},
      {march(4), {{{2, 1}, SetKind::kDifferential, true, true, true}}, false}};
  std::string svg = calendar_svg("a <desk>", calendar);
  EXPECT_NE(svg.find("a &lt;desk&gt;"), std::string::npos);
  EXPECT_NE(svg.find("2 of 4 days can be restored"), std::string::npos);
  EXPECT_NE(svg.find("March 2026"), std::string::npos);
  EXPECT_EQ(count(svg, "#1c7445"), 2u + 1u) << "two days and the legend";
  EXPECT_EQ(count(svg, ">!<"), 1u + 1u);
  EXPECT_EQ(count(svg, ">x<"), 1u + 1u);
}

TEST(Calendar, OfAShelfKnowsWhatWasPruned) {
  Desk desk;
  auto at = [&](int day) {
    desk.environment["KESTRUM_NOW"] =
        format_rfc3339(*parse_rfc3339("2026-03-01T12:00:00Z") + day * kDay);
  };
  at(0);
  desk.define({"--protection", "none", "--kind", "full", "--keep-for", "2 days"});
  put_file(desk.source() + "/file", "x");
  for (int day = 0; day < 5; ++day) {
    at(day);
    desk.kestrum({"run", "desk"});
  }
  std::string file = desk.folder / "calendar.svg";
  EXPECT_EQ(desk.json({"sets", "desk", "--calendar", file})["calendar"], file);
  std::string svg = read_file(file);
  EXPECT_NE(svg.find("2 of 5 days can be restored"), std::string::npos) << svg.substr(0, 700);
  EXPECT_EQ(count(svg, "<path"), 3u + 1u) << "crossed out";
  if (run_program({"rsvg-convert", "--version"}).exit == 0) {
    EXPECT_EQ(run_program({"rsvg-convert", file, "-o", desk.folder / "calendar.png"}).exit, 0);
  }
}

}  // namespace
}  // namespace kestrum::test
