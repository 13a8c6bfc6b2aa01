// What a phrase means, and its standard form. Understanding what people type is phrase_parser.cpp.
#include "kestrum/schedule/phrase.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "kestrum/schedule/words.h"

namespace kestrum {
namespace {

constexpr int kMinutesADay = 1440;

std::string times_text(const std::vector<int>& times) {
  std::string text;
  for (int t : times) {
    text += fmt::format("{}{:02}:{:02}", text.empty() ? "" : ", ", t / 60, t % 60);
  }
  return text;
}

std::string weekdays_text(unsigned mask) {
  if (mask == kAllWeek) return "day";
  if (mask == kWorkingDays) return "weekday";
  std::string text;
  for (unsigned i = 0; i < 7; ++i) {
    unsigned day = (i + 1) % 7;  // Monday first
    if ((mask >> day & 1) == 0) continue;
    text += (text.empty() ? "" : ", ") + std::string(kWeekdayNames[day].substr(0, 3));
  }
  return text;
}

// 0 is Sunday
unsigned weekday_of(LocalDay day) {
  return date::weekday(day).c_encoding();
}

unsigned last_day(date::year_month month) {
  return static_cast<unsigned>((month / date::last).day());
}

bool nth_month(unsigned every, date::year_month_day ymd) {
  auto months = static_cast<int>(ymd.year()) * 12 + static_cast<int>(unsigned(ymd.month())) - 1;
  return months % static_cast<int>(every) == 0;
}

// Weeks begin on Monday; 1970-01-05 was one.
std::int64_t week_of(LocalDay day) {
  std::int64_t days = day.time_since_epoch().count() - 4;
  return days >= 0 ? days / 7 : (days - 6) / 7;
}

bool falls_on(const Phrase& phrase, LocalDay day) {
  date::year_month_day ymd(day);
  unsigned of_month = static_cast<unsigned>(ymd.day());
  unsigned last = last_day(ymd.year() / ymd.month());
  switch (phrase.pattern) {
    case Phrase::Pattern::kInterval:
      return true;
    case Phrase::Pattern::kDays:
      return day.time_since_epoch().count() % static_cast<std::int64_t>(phrase.every) == 0;
    case Phrase::Pattern::kWeekdays:
      return (phrase.weekdays >> weekday_of(day) & 1) != 0 &&
             week_of(day) % static_cast<std::int64_t>(phrase.every) == 0;
    case Phrase::Pattern::kMonthDay:
      return nth_month(phrase.every, ymd) &&
             of_month == (phrase.day == 0 ? last : std::min(phrase.day, last));
    case Phrase::Pattern::kMonthWeekday:
      if (!nth_month(phrase.every, ymd) || weekday_of(day) != phrase.weekday) return false;
      return phrase.nth < 0 ? of_month + 7 > last
                            : static_cast<int>((of_month - 1) / 7) + 1 == phrase.nth;
    case Phrase::Pattern::kYearly:
      return static_cast<unsigned>(ymd.month()) == phrase.month &&
             of_month == std::min(phrase.day, last);
    case Phrase::Pattern::kOnce:
      return day == phrase.date;
    case Phrase::Pattern::kWhenFilesChange:
      return false;
  }
  return false;
}

std::string minutes_text(unsigned minutes) {
  bool hours = minutes % 60 == 0;
  unsigned count = hours ? minutes / 60 : minutes;
  std::string unit = hours ? "hour" : "minute";
  return count == 1 ? unit : fmt::format("{} {}s", count, unit);
}

std::string every_text(unsigned every, const std::string& unit) {
  return every == 1 ? "every " + unit : fmt::format("every {} {}s", every, unit);
}

}  // namespace

std::string Phrase::text() const {
  std::string at = " at " + times_text(times);
  std::string monthly = every == 1 ? "monthly" : fmt::format("every {} months", every);
  switch (pattern) {
    case Pattern::kInterval:
      if (every % 60 == 0 && (every == 60 || offset != 0)) {
        return fmt::format("every {} at :{:02}", minutes_text(every), offset);
      }
      return "every " + minutes_text(every);
    case Pattern::kDays:
      return every_text(every, "day") + at;
    case Pattern::kWeekdays:
      if (every == 1) return "every " + weekdays_text(weekdays) + at;
      return fmt::format("every {} weeks on {}{}", every, weekdays_text(weekdays), at);
    case Pattern::kMonthDay:
      return monthly + (day == 0 ? " on the last day" : fmt::format(" on day {}", day)) + at;
    case Pattern::kMonthWeekday:
      return fmt::format("{} on the {} {}{}", monthly,
                         nth < 0 ? "last" : kOrdinals[static_cast<std::size_t>(nth - 1)],
                         kWeekdayNames[weekday], at);
    case Pattern::kYearly:
      return fmt::format("yearly on {} {}{}", day, kMonthNames[month - 1].substr(0, 3), at);
    case Pattern::kOnce:
      return "once on " + date::format("%F", date) + at;
    case Pattern::kWhenFilesChange:
      return "when files change, at most every " + minutes_text(every);
  }
  return "";
}

std::vector<int> Phrase::minutes_on(LocalDay on) const {
  if (!falls_on(*this, on)) return {};
  if (pattern != Pattern::kInterval) return times;
  std::vector<int> minutes;
  for (int m = static_cast<int>(offset); m < kMinutesADay; m += static_cast<int>(every)) {
    minutes.push_back(m);
  }
  return minutes;
}

}  // namespace kestrum
