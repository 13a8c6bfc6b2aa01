#include "kestrum/chain/moment.h"

#include <algorithm>
#include <array>

#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/base/zone.h"
#include "kestrum/chain/words.h"

namespace kestrum {
namespace {

constexpr std::array<std::string_view, 7> kDays = {"sunday",   "monday", "tuesday", "wednesday",
                                                   "thursday", "friday", "saturday"};

constexpr int kMostDaysBack = 200 * 365;  // that anybody goes back; no moment is older than 1678

std::optional<int> number(std::string_view text) {
  auto value = parse_number(text, INT32_MAX);
  return value ? std::optional(static_cast<int>(*value)) : std::nullopt;
}

// Minutes since midnight.
std::optional<int> parse_time_of_day(std::string_view text) {
  std::size_t colon = text.find(':');
  if (colon == std::string_view::npos) return std::nullopt;
  auto hour = number(text.substr(0, colon)), minute = number(text.substr(colon + 1));
  if (!hour || !minute || *hour > 23 || *minute > 59 || text.size() - colon != 3)
    return std::nullopt;
  return *hour * 60 + *minute;
}

// The last nanosecond of the day, or of the minute where a time of day is given.
Nanos end_of(const Zone& zone, LocalDay day, std::optional<int> minute) {
  return zone.moment({day, minute ? *minute : 23 * 60 + 59}) + kMinute - 1;
}

std::optional<LocalDay> parse_date(std::string_view text) {
  if (text.size() != 10 || text[4] != '-' || text[7] != '-') return std::nullopt;
  auto year = number(text.substr(0, 4)), month = number(text.substr(5, 2)),
       day = number(text.substr(8, 2));
  if (!year || !month || !day || *year < 1970) return std::nullopt;
  date::year_month_day date{date::year(*year), date::month(static_cast<unsigned>(*month)),
                            date::day(static_cast<unsigned>(*day))};
  return date.ok() ? std::optional(LocalDay(date)) : std::nullopt;
}

// The same day of the month so many months before; the first of the month behind it where that
// month is shorter, as "31 February" is taken for 3 March.
LocalDay months_before(LocalDay day, int months) {
  date::year_month_day date(day);
  date::year_month first = date::year_month(date.year(), date.month()) - date::months(months);
  return LocalDay(first / 1) + (date::days(static_cast<unsigned>(date.day())) - date::days(1));
}

date::year_month month_of(LocalDay day) {
  date::year_month_day date(day);
  return {date.year(), date.month()};
}

LocalDay last_day_before(date::year_month month) {
  return LocalDay(month / 1) - date::days(1);
}

// "2026-04"
std::optional<date::year_month> parse_month(std::string_view text) {
  auto day = text.size() == 7 ? parse_date(std::string(text) + "-01") : std::nullopt;
  return day ? std::optional(month_of(*day)) : std::nullopt;
}

std::optional<date::weekday> parse_weekday(std::string_view word) {
  for (unsigned day = 0; day < kDays.size(); ++day) {
    bool short_form = word.size() >= 3 && kDays[day].starts_with(word);
    if (word == kDays[day] || short_form) return date::weekday(day);
  }
  return std::nullopt;
}

}  // namespace

std::optional<Moment> parse_moment(std::string_view text, Nanos now) {
  std::string lower = lower_ascii(trimmed(text));
  if (lower == "newest") return Moment{Moment::Kind::kNewest};
  if (lower == "oldest") return Moment{Moment::Kind::kOldest};
  if (lower == "last-seen") return Moment{Moment::Kind::kLastSeen};
  if (auto id = SetId::parse(lower)) return Moment{Moment::Kind::kSet, *id};
  auto at = [](Nanos time) { return Moment{Moment::Kind::kTime, {}, time}; };
  if (auto instant = parse_rfc3339(trimmed(text))) return at(*instant + kSecond - 1);

  std::vector<std::string> words = lower_words(lower);
  Zone zone = Zone::local();
  LocalDay today = zone.wall(now).day;

  if (words.size() == 3 && words[2] == "ago") {
    auto count = number(words[0]);
    std::string unit = words[1];
    if (unit.ends_with('s')) unit.pop_back();
    if (!count || *count > 100000) return std::nullopt;
    LocalDay day = today;
    if (unit == "day") {
      day -= date::days(std::min(*count, kMostDaysBack));
    } else if (unit == "week") {
      day -= date::days(std::min(*count * 7, kMostDaysBack));
    } else if (unit == "month") {
      day = months_before(day, std::min(*count, kMostDaysBack / 31));
    } else if (unit == "year") {
      day = months_before(day, std::min(*count * 12, kMostDaysBack / 31));
    } else if (unit == "hour") {
      return at(now - *count * kHour);
    } else if (unit == "minute") {
      return at(now - *count * kMinute);
    } else {
      return std::nullopt;
    }
    return at(end_of(zone, day, std::nullopt));
  }

  bool last = words.size() >= 2 && words[0] == "last";
  if (last) words.erase(words.begin());
  if (last && words.size() == 1 && words[0] == "week") {
    // Weeks begin on Monday.
    return at(end_of(zone, today - (date::weekday(today) - date::Monday) - date::days(1), {}));
  }
  if (last && words.size() == 1 && words[0] == "month") {
    return at(end_of(zone, last_day_before(month_of(today)), {}));
  }
  if (auto month = words.size() == 1 && !last ? parse_month(words[0]) : std::nullopt) {
    return at(end_of(zone, last_day_before(*month + date::months(1)), {}));
  }
  if (words.empty() || words.size() > 2) return std::nullopt;
  std::optional<int> time;  // minutes since midnight
  if (words.size() == 2 && !(time = parse_time_of_day(words[1]))) return std::nullopt;
  if (auto date = last ? std::nullopt : parse_date(words[0])) return at(end_of(zone, *date, time));
  LocalDay day = today;
  if (words[0] == "today" && !last) return at(end_of(zone, day, time));
  if (words[0] == "yesterday" && !last) {
    day -= date::days(1);
    return at(end_of(zone, day, time));
  }
  if (auto weekday = parse_weekday(words[0])) {
    date::days since = date::weekday(today) - *weekday;
    day -= since;
    // A time of day that is still to come today means the week before, and so does "last".
    bool to_come = time && end_of(zone, day, time) - kMinute >= now;
    if (since.count() == 0 && (last || to_come)) day -= date::weeks(1);
    return at(end_of(zone, day, time));
  }
  return std::nullopt;
}

std::optional<Nanos> parse_until(std::string_view text, Nanos now) {
  std::vector<std::string> words = lower_words(text);
  Zone zone = Zone::local();
  LocalDay day = zone.wall(now).day;
  if (words.size() == 3 && words[0] == "in") {
    auto count = number(words[1]);
    std::string unit = words[2];
    if (unit.ends_with('s')) unit.pop_back();
    if (!count || *count > kMostDaysBack || (unit != "day" && unit != "week")) return std::nullopt;
    return zone.moment({day + date::days(unit == "day" ? *count : *count * 7), 0});
  }
  if (words.empty() || words.size() > 2) return std::nullopt;
  std::optional<int> time;
  if (words.size() == 2 && !(time = parse_time_of_day(words[1]))) return std::nullopt;
  if (auto date = parse_date(words[0])) {
    day = *date;
  } else if (words[0] == "tomorrow") {
    day += date::days(1);
  } else if (auto weekday = parse_weekday(words[0])) {
    date::days ahead = *weekday - date::weekday(day);
    day += ahead.count() == 0 ? date::days(7) : ahead;
  } else {
    return std::nullopt;
  }
  return zone.moment({day, time.value_or(0)});
}

std::optional<Nanos> parse_beginning(std::string_view text, Nanos now) {
  auto moment = parse_moment(text, now);
  if (!moment || moment->kind != Moment::Kind::kTime) return std::nullopt;
  std::string lower = lower_ascii(trimmed(text));
  bool span = lower.ends_with("hours ago") || lower.ends_with("hour ago") ||
              lower.ends_with("minutes ago") || lower.ends_with("minute ago");
  if (span || parse_rfc3339(trimmed(text))) return moment->time;
  if (lower.find(':') != std::string::npos) return moment->time - (kMinute - 1);
  Zone zone = Zone::local();
  LocalDay day = zone.wall(moment->time).day;
  if (lower == "last week") day -= date::days(6);
  if (lower == "last month" || parse_month(lower)) day = LocalDay(month_of(day) / 1);
  return zone.moment({day, 0});
}

std::optional<SetId> choose_set(const std::vector<SetFacts>& sets, const Moment& moment) {
  std::vector<SetFacts> ordered = sets;
  std::sort(ordered.begin(), ordered.end(),
            [](const SetFacts& a, const SetFacts& b) { return a.id < b.id; });
  if (ordered.empty()) return std::nullopt;
  switch (moment.kind) {
    case Moment::Kind::kNewest:
    case Moment::Kind::kLastSeen:
      return ordered.back().id;
    case Moment::Kind::kOldest:
      return ordered.front().id;
    case Moment::Kind::kSet:
      for (const SetFacts& set : ordered) {
        if (set.id == moment.set) return set.id;
      }
      return std::nullopt;
    case Moment::Kind::kTime:
      for (auto it = ordered.rbegin(); it != ordered.rend(); ++it) {
        if (it->taken <= moment.time) return it->id;
      }
      return std::nullopt;
  }
  return std::nullopt;
}

}  // namespace kestrum
