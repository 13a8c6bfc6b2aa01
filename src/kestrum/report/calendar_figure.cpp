#include "kestrum/report/calendar_figure.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

#include "kestrum/base/text.h"
#include "kestrum/report/svg_text.h"

namespace kestrum {
namespace {

// Pixels.
constexpr int kCell = 34, kGap = 4, kTop = 64, kSide = 20, kMonthTitle = 44, kMonthGap = 28;
constexpr int kMonthsAcross = 3, kMonthRows = 6;
constexpr int kMonthWidth = 7 * (kCell + kGap),
              kMonthHeight = kMonthTitle + kMonthRows * (kCell + kGap);
constexpr int kLegendRow = 46, kLegend = 16 + 3 * kLegendRow;
constexpr int kLeastMonths = 3;        // the sheet is as wide as these
constexpr double kTitleLetter = 10.8;  // width of one, about

constexpr std::array<const char*, 12> kMonths = {"January",   "February", "March",    "April",
                                                 "May",       "June",     "July",     "August",
                                                 "September", "October",  "November", "December"};

struct Look {
  const char *fill, *ink, *letter;
};

Look look_of(SetKind kind) {
  if (kind == SetKind::kFull) return {"#1f4e79", "#fdfdfd", "F"};
  if (kind == SetKind::kDifferential) return {"#7a5ea8", "#fdfdfd", "d"};
  return {"#9cc3e0", "#10314d", "i"};
}

// The set that stands for a day: one that is there before one that is not, a full one before one
// that depends on it, a later one before an earlier one.
const CalendarSet* shown(const CalendarDay& day) {
  const CalendarSet* best = nullptr;
  auto rank = [](const CalendarSet& set) {
    return std::tuple(set.there, set.kind == SetKind::kFull, set.id);
  };
  for (const CalendarSet& set : day.sets) {
    if (best == nullptr || rank(*best) < rank(set)) best = &set;
  }
  return best;
}

std::string cell(int x, int y, const std::string& number, const CalendarDay* day) {
  std::string svg;
  const CalendarSet* set = day == nullptr ? nullptr : shown(*day);
  Look look = set == nullptr ? Look{"#f4f6f5", "#56616b", ""} : look_of(set->kind);
  bool pruned = set != nullptr && !set->there;
  if (pruned) look.fill = "#ffffff", look.ink = "#56616b";
  if (day == nullptr) look.fill = "#ffffff", look.ink = "#56616b";
  svg += fmt::format(
      "<rect x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\" rx=\"3\" fill=\"{}\" stroke=\"{}\"/>\n",
      x, y, kCell, kCell, look.fill,
      pruned           ? "#d3d9dc"
      : day == nullptr ? "#e9edee"
                       : look.fill);
  svg += fmt::format("<text x=\"{}\" y=\"{}\" font-size=\"10\" fill=\"{}\">{}</text>\n", x + 4,
                     y + 12, look.ink, number);
  if (day == nullptr) return svg;
  if (set != nullptr) {
    std::string letter = look.letter;
    bool several = day->sets.size() > 1;
    if (several) letter = fmt::format("{}×", day->sets.size()) + letter;
    svg += fmt::format(
        "<text x=\"{}\" y=\"{}\" font-size=\"{}\" font-weight=\"bold\" text-anchor=\"middle\" "
        "fill=\"{}\">{}</text>\n",
        x + kCell / 2 + (several ? 0 : 3), y + (several ? 27 : 24), several ? 11 : 13, look.ink,
        letter);
  }
  if (pruned) {
    svg += fmt::format("<path d=\"M{} {}L{} {}\" stroke=\"#d3d9dc\" stroke-width=\"1.5\"/>\n",
                       x + 3, y + kCell - 3, x + kCell - 3, y + 3);
  }
  bool restorable = std::any_of(day->sets.begin(), day->sets.end(),
                                [](const CalendarSet& s) { return s.restorable; });
  if (restorable) {
    svg += fmt::format("<rect x=\"{}\" y=\"{}\" width=\"{}\" height=\"3\" fill=\"#1c7445\"/>\n", x,
                       y + kCell + 1, kCell);
  }
  bool suspect = std::any_of(day->sets.begin(), day->sets.end(),
                             [](const CalendarSet& s) { return s.suspect; });
  if (suspect) {
    svg += fmt::format(
        "<rect x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\" rx=\"3\" fill=\"none\" "
        "stroke=\"#b3261e\" stroke-width=\"3\"/>\n<text x=\"{}\" y=\"{}\" font-size=\"12\" "
        "font-weight=\"bold\" fill=\"#b3261e\">!</text>\n",
        x + 1, y + 1, kCell - 2, kCell - 2, x + kCell - 9, y + 13);
  } else if (day->failed || day->missed) {
    svg += fmt::format(
        "<text x=\"{}\" y=\"{}\" font-size=\"12\" font-weight=\"bold\" "
        "fill=\"#b3261e\">{}</text>\n",
        x + kCell - 10, y + 12, day->failed ? "x" : "–");
  }
  return svg;
}

std::string legend(int y) {
  std::string svg;
  int x = kSide;
  auto item = [&](const CalendarDay* day, const char* words) {
    svg += cell(x, y, "", day);
    svg += fmt::format("<text x=\"{}\" y=\"{}\" font-size=\"12\">{}</text>\n", x + kCell + 8,
                       y + 21, words);
    x += kCell + 24 + 7 * static_cast<int>(std::char_traits<char>::length(words));
  };
  CalendarDay full, incremental, differential, several, pruned, suspect, failed, missed, quiet;
  full.sets = {{{1, 0}, SetKind::kFull, true, false, false}};
  incremental.sets = {{{1, 1}, SetKind::kIncremental, true, false, false}};
  differential.sets = {{{1, 1}, SetKind::kDifferential, true, false, false}};
  several.sets = {incremental.sets[0], incremental.sets[0]};
  pruned.sets = {{{1, 1}, SetKind::kIncremental, false, false, false}};
  suspect.sets = {{{1, 1}, SetKind::kIncremental, true, false, true}};
  failed.failed = true;
  missed.missed = true;
  item(&full, "full");
  item(&incremental, "incremental");
  item(&differential, "differential");
  item(&several, "two sets that day");
  item(&pruned, "pruned");
  auto next_row = [&] {
    x = kSide;
    y += kLegendRow;
  };
  next_row();
  item(&suspect, "suspect");
  item(&failed, "a run that made no set");
  item(&missed, "missed, or waiting");
  svg += fmt::format("<rect x=\"{}\" y=\"{}\" width=\"{}\" height=\"3\" fill=\"#1c7445\"/>\n", x,
                     y + 16, kCell);
  svg += fmt::format("<text x=\"{}\" y=\"{}\" font-size=\"12\">can be restored</text>\n",
                     x + kCell + 8, y + 21);
  next_row();
  item(&quiet, "no run");
  item(nullptr, "before the first, or to come");
  return svg;
}

}  // namespace

std::string calendar_svg(const std::string& title, const std::vector<CalendarDay>& days) {
  std::map<date::year_month, std::map<unsigned, const CalendarDay*>> months;
  std::size_t restorable = 0;
  for (const CalendarDay& day : days) {
    date::year_month_day ymd{day.day};
    months[ymd.year() / ymd.month()][static_cast<unsigned>(ymd.day())] = &day;
    restorable += std::any_of(day.sets.begin(), day.sets.end(),
                              [](const CalendarSet& s) { return s.restorable; });
  }
  // Months before the first fill the sheet.
  while (!months.empty() && static_cast<int>(months.size()) < kLeastMonths) {
    months[months.begin()->first - date::months(1)];
  }
  int across = std::clamp<int>(static_cast<int>(months.size()), kLeastMonths, kMonthsAcross);
  int rows = (static_cast<int>(months.size()) + across - 1) / across;
  int width = 2 * kSide + across * kMonthWidth + (across - 1) * kMonthGap;
  int height = kTop + rows * (kMonthHeight + kMonthGap) + kLegend;
  std::string svg = fmt::format(
      "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{0}\" height=\"{1}\" viewBox=\"0 0 {0} "
      "{1}\" font-family=\"sans-serif\" fill=\"#1d2731\">\n<rect width=\"100%\" height=\"100%\" "
      "fill=\"#ffffff\"/>\n",
      width, height);
  svg += fmt::format("<text x=\"{}\" y=\"30\" font-size=\"18\" font-weight=\"bold\">{}</text>\n",
                     kSide,
                     markup_escaped(shortened(
                         title, static_cast<std::size_t>((width - 2 * kSide) / kTitleLetter))));
  svg += fmt::format(
      "<text x=\"{}\" y=\"50\" font-size=\"13\" fill=\"#56616b\">{} of {} days can be "
      "restored</text>\n",
      kSide, restorable, days.size());
  int index = 0;
  for (const auto& [month, entries] : months) {
    int left = kSide + index % across * (kMonthWidth + kMonthGap);
    int top = kTop + index / across * (kMonthHeight + kMonthGap);
    ++index;
    svg += fmt::format("<text x=\"{}\" y=\"{}\" font-size=\"14\">{} {}</text>\n", left, top + 16,
                       kMonths[static_cast<unsigned>(month.month()) - 1],
                       static_cast<int>(month.year()));
    for (int weekday = 0; weekday < 7; ++weekday) {
      constexpr std::array<const char*, 7> kDays = {"Mo", "Tu", "We", "Th", "Fr", "Sa", "Su"};
      svg += fmt::format("<text x=\"{}\" y=\"{}\" font-size=\"10\" fill=\"#56616b\">{}</text>\n",
                         left + weekday * (kCell + kGap) + 4, top + 36,
                         kDays[static_cast<unsigned>(weekday)]);
    }
    date::year_month_day_last end{month.year(), date::month_day_last{month.month()}};
    unsigned first = date::weekday{date::local_days{month / 1}}.iso_encoding() - 1;
    for (unsigned number = 1; number <= static_cast<unsigned>(end.day()); ++number) {
      unsigned slot = first + number - 1;
      auto entry = entries.find(number);
      svg += cell(left + static_cast<int>(slot % 7) * (kCell + kGap),
                  top + kMonthTitle + static_cast<int>(slot / 7) * (kCell + kGap),
                  std::to_string(number), entry == entries.end() ? nullptr : entry->second);
    }
  }
  return svg + legend(height - kLegend + 8) + "</svg>\n";
}

}  // namespace kestrum
