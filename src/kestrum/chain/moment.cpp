#include "kestrum/chain/moment.h"

#include <algorithm>
#include <array>
#include <ctime>

#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr std::array<std::string_view, 7> kDays = {"sunday",   "monday", "tuesday", "wednesday",
                                                   "thursday", "friday", "saturday"};

std::optional<int> number(std::string_view text) {
  auto value = parse_number(text, INT32_MAX);
  return value ? std::optional(static_cast<int>(*value)) : std::nullopt;
}

struct TimeOfDay {
  int hour, minute;
};

std::optional<TimeOfDay> parse_time_of_day(std::string_view text) {
  std::size_t colon = text.find(':');
  if (colon == std::string_view::npos) return std::nullopt;
  auto hour = number(text.substr(0, colon)), minute = number(text.substr(colon + 1));
  if (!hour || !minute || *hour > 23 || *minute > 59 || text.size() - colon != 3)
    return std::nullopt;
  return TimeOfDay{*hour, *minute};
}

// The last nanosecond of the day, or of the minute where a time of day is given.
Nanos end_of(std::tm day, std::optional<TimeOfDay> time) {
  day.tm_hour = time ? time->hour : 23;
  day.tm_min = time ? time->minute : 59;
  day.tm_sec = 59;
  day.tm_isdst = -1;
  return std::mktime(&day) * kSecond + (kSecond - 1);
}

std::optional<std::tm> parse_date(std::string_view text) {
  if (text.size() != 10 || text[4] != '-' || text[7] != '-') return std::nullopt;
  auto year = number(text.substr(0, 4)), month = number(text.substr(5, 2)),
       day = number(text.substr(8, 2));
  if (!year || !month || !day) return std::nullopt;
  std::tm tm{};
  tm.tm_year = *year - 1900;
  tm.tm_mon = *month - 1;
  tm.tm_mday = *day;
  tm.tm_hour = 12;
  std::tm normal = tm;
  timegm(&normal);
  if (normal.tm_mon != tm.tm_mon || normal.tm_mday != tm.tm_mday || *year < 1970)
    return std::nullopt;
  return tm;
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

  std::vector<std::string> words;
  for (auto& word : split(lower, ' ')) {
    if (!word.empty()) words.push_back(std::move(word));
  }
  std::time_t seconds = now / kSecond;
  std::tm today{};
  localtime_r(&seconds, &today);

  if (words.size() == 3 && words[2] == "ago") {
    auto count = number(words[0]);
    std::string unit = words[1];
    if (unit.ends_with('s')) unit.pop_back();
    if (!count || *count > 100000) return std::nullopt;
    std::tm day = today;
    if (unit == "day") {
      day.tm_mday -= *count;
    } else if (unit == "week") {
      day.tm_mday -= *count * 7;
    } else if (unit == "month") {
      day.tm_mon -= *count;
    } else if (unit == "year") {
      day.tm_year -= *count;
    } else if (unit == "hour") {
      return at(now - *count * kHour);
    } else if (unit == "minute") {
      return at(now - *count * kMinute);
    } else {
      return std::nullopt;
    }
    return at(end_of(day, std::nullopt));
  }

  if (words.empty() || words.size() > 2) return std::nullopt;
  std::optional<TimeOfDay> time;
  if (words.size() == 2 && !(time = parse_time_of_day(words[1]))) return std::nullopt;
  if (auto date = parse_date(words[0])) return at(end_of(*date, time));
  std::tm day = today;
  if (words[0] == "today") return at(end_of(day, time));
  if (words[0] == "yesterday") {
    --day.tm_mday;
    return at(end_of(day, time));
  }
  for (int weekday = 0; weekday < 7; ++weekday) {
    if (words[0] != kDays[weekday] && words[0] != kDays[weekday].substr(0, 3)) continue;
    day.tm_mday -= (today.tm_wday - weekday + 7) % 7;
    // A time of day that is still to come today means the week before.
    if (time && weekday == today.tm_wday && end_of(day, time) - kMinute >= now) day.tm_mday -= 7;
    return at(end_of(day, time));
  }
  return std::nullopt;
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
