#include "kestrum/report/plot.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/base/zone.h"
#include "kestrum/report/expand.h"
#include "kestrum/report/palette.h"
#include "kestrum/report/svg_text.h"
#include "kestrum/report/templates.h"
#include "kestrum/system/process.h"

namespace kestrum {
namespace {

constexpr std::size_t kTitleColumns = 90;
constexpr int kMostTics = 8;

// gnuplot writes colours as it likes: as the palette has them, they can be exchanged.
void use_palette(std::string& svg) {
  for (const PaletteColour& colour : kPalette) {
    auto part = [&](int at) { return std::stoi(std::string(colour.light + at, 2), nullptr, 16); };
    // Lines and areas have blanks in it, letters none.
    replace_each(svg, fmt::format("rgb({:3}, {:3}, {:3})", part(1), part(3), part(5)),
                 colour.light);
    replace_each(svg, fmt::format("rgb({},{},{})", part(1), part(3), part(5)), colour.light);
  }
  for (const char* quote : {"'", "\""}) {
    replace_each(svg, fmt::format("{0}black{0}", quote),
                 fmt::format("{0}{1}{0}", quote, light_code("ink")));
  }
}

// In single quotes, where gnuplot takes every character as it stands.
std::string gnuplot_text(const std::string& text) {
  std::string plain = shortened(printable(text), kTitleColumns);
  replace_each(plain, "'", "''");
  replace_each(plain, "]]>", "]] >");
  return "'" + plain + "'";
}

}  // namespace

void draw(Figure& figure, const Plot& plot) {
  auto values = plot.values;
  values.emplace_back("TITLE", gnuplot_text(figure.title));
  values.emplace_back("WIDTH", std::to_string(plot.width));
  values.emplace_back("HEIGHT", std::to_string(plot.height));
  for (const PaletteColour& colour : kPalette) {
    std::string name = colour.name;
    std::transform(name.begin(), name.end(), name.begin(),
                   [](char c) { return c == '-' ? '_' : static_cast<char>(c & ~0x20); });
    values.emplace_back(name, fmt::format("\"{}\"", colour.light));
  }
  std::string script = expand_script(template_text("common.gp"), values) +
                       expand_script(template_text(plot.template_name), values);
  FilterResult result = run_filter({{"gnuplot", "-d"}, script});
  if (!result.ok) {
    throw Error(ErrorKind::kFailed, figure.name + ": not drawn: " + result.reason,
                "gnuplot is in the package gnuplot-nox");
  }
  figure.svg = std::move(result.output);
  use_palette(figure.svg);
  replace_each(figure.svg, "<title>Gnuplot</title>",
               "<title>" + markup_escaped(figure.title) + "</title>");
  std::size_t from = figure.svg.find("<desc>"), to = figure.svg.find("</desc>");
  if (from != std::string::npos && to != std::string::npos) {
    figure.svg.replace(from, to - from, "<desc>" + markup_escaped(figure.summary));
  }
}

std::int64_t axis_time(Nanos moment) {
  WallTime wall = Zone::local().wall(moment);
  return std::chrono::seconds(wall.day.time_since_epoch()).count() + 60 * wall.minute;
}

std::string day_tics(Nanos from, Nanos to) {
  Zone zone = Zone::local();
  LocalDay first = zone.wall(from).day, last = zone.wall(to).day;
  auto days = (last - first).count();
  std::string tics;
  auto add = [&](LocalDay day, const char* format) {
    auto seconds = std::chrono::seconds(day.time_since_epoch()).count();
    std::string name = date::format(format, day);
    if (name.starts_with(' ')) name.erase(0, 1);  // of a day below 10
    tics += fmt::format("{}\"{}\" {}", tics.empty() ? "" : ", ", name, seconds);
  };
  for (int step : {1, 2, 7, 14}) {
    if (days > step * kMostTics) continue;
    LocalDay day = first;
    // Weeks begin on Mondays.
    while (step >= 7 && date::weekday(day) != date::Monday) day += date::days(1);
    for (; day <= last; day += date::days(step)) add(day, "%e %b");
    return tics;
  }
  date::year_month_day start{first};
  auto months = static_cast<int>(days / 30);
  int step = 1;
  for (int candidate : {1, 2, 3, 6, 12}) {
    step = candidate;
    if (months <= candidate * kMostTics) break;
  }
  for (date::year_month month = start.year() / start.month();
       LocalDay(date::local_days(month / 1)) <= last; month += date::months(step)) {
    if (LocalDay day = date::local_days(month / 1); day >= first) add(day, "%b %Y");
  }
  return tics;
}

AxisUnit unit_for(double most) {
  constexpr std::array<AxisUnit, 5> kUnits = {
      {{1e12, "TB"}, {1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}, {1, "bytes"}}};
  for (const AxisUnit& unit : kUnits) {
    if (most >= 2 * unit.bytes) return unit;
  }
  return kUnits.back();
}

std::string size_tics(double least, double most) {
  std::string tics;
  int from = static_cast<int>(std::ceil(std::log10(std::max(least, 1.0))));
  int to = static_cast<int>(std::floor(std::log10(std::max(most, 1.0))));
  int step = to - from > 6 ? 3 : to - from > 3 ? 2 : 1;
  for (int power = from; power <= to; power += step) {
    auto bytes = static_cast<std::uint64_t>(std::llround(std::pow(10.0, power)));
    std::string words = format_size(bytes);
    if (auto point = words.find(".0"); point != std::string::npos) {  // "10.0 MB"
      words.erase(point, words.find(' ') - point);
    }
    tics += fmt::format("{}\"{}\" {}", tics.empty() ? "" : ", ", words, bytes);
  }
  return tics;
}

std::string time_tics() {
  return "\"0.1 s\" 0.1, \"1 s\" 1, \"10 s\" 10, \"1 min\" 60, \"10 min\" 600, \"1 h\" 3600, "
         "\"10 h\" 36000, \"4 days\" 345600";
}

}  // namespace kestrum
