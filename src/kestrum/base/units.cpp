#include "kestrum/base/units.h"

#include <date/date.h>
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <ctime>

#include "kestrum/base/text.h"

namespace kestrum {
namespace {

// Splits "1.5 TB" into the number and the unit behind it. Nothing if there is no plain number.
struct Measured {
  double value;
  bool is_integer;  // no decimal point
  std::uint64_t integer;
  std::string unit;
};

std::optional<Measured> parse_measured(std::string_view text) {
  text = trimmed(text);
  std::size_t end = 0;
  int points = 0;
  while (end < text.size() &&
         (std::isdigit(static_cast<unsigned char>(text[end])) != 0 || text[end] == '.')) {
    points += text[end] == '.';
    ++end;
  }
  if (end == 0 || points > 1 || text[0] == '.' || text[end - 1] == '.') return std::nullopt;
  Measured m{};
  m.is_integer = points == 0;
  if (m.is_integer) {
    auto [p, ec] = std::from_chars(text.data(), text.data() + end, m.integer);
    if (ec != std::errc()) return std::nullopt;
  }
  auto [p, ec] = std::from_chars(text.data(), text.data() + end, m.value);
  if (ec != std::errc()) return std::nullopt;
  m.unit = std::string(trimmed(text.substr(end)));
  return m;
}

}  // namespace

std::optional<std::uint64_t> parse_size(std::string_view text) {
  auto m = parse_measured(text);
  if (!m) return std::nullopt;
  static constexpr std::array<std::pair<std::string_view, double>, 16> kUnits = {
      {{"", 1},
       {"b", 1},
       {"byte", 1},
       {"bytes", 1},
       {"kb", 1e3},
       {"mb", 1e6},
       {"gb", 1e9},
       {"tb", 1e12},
       {"pb", 1e15},
       {"kib", 1024.0},
       {"mib", 1048576.0},
       {"gib", 1073741824.0},
       {"tib", 1099511627776.0},
       {"pib", 1125899906842624.0},
       {"k", 1e3},
       {"m", 1e6}}};
  std::string unit = lower_ascii(m->unit);
  for (const auto& [name, factor] : kUnits) {
    if (unit != name) continue;
    if (m->is_integer) {
      __uint128_t bytes = static_cast<__uint128_t>(m->integer) * static_cast<std::uint64_t>(factor);
      if (bytes > INT64_MAX) return std::nullopt;
      return static_cast<std::uint64_t>(bytes);
    }
    if (factor == 1) return std::nullopt;  // there is no half byte
    double bytes = m->value * factor;
    if (bytes > 9.2e18) return std::nullopt;
    return static_cast<std::uint64_t>(std::llround(bytes));
  }
  return std::nullopt;
}

std::string format_size(std::uint64_t bytes) {
  if (bytes < 1000) return fmt::format("{} {}", bytes, bytes == 1 ? "byte" : "bytes");
  static constexpr std::array<std::string_view, 6> kUnits = {"kB", "MB", "GB", "TB", "PB", "EB"};
  double value = static_cast<double>(bytes) / 1000;
  std::size_t unit = 0;
  while (value >= 999.5 && unit + 1 < kUnits.size()) {
    value /= 1000;
    ++unit;
  }
  int decimals = value < 9.995 ? 2 : value < 99.95 ? 1 : 0;
  return fmt::format("{:.{}f} {}", value, decimals, kUnits[unit]);
}

std::string format_count(std::uint64_t count) {
  std::string digits = std::to_string(count), out;
  for (std::size_t i = 0; i < digits.size(); ++i) {
    if (i > 0 && (digits.size() - i) % 3 == 0) out += ',';
    out += digits[i];
  }
  return out;
}

std::string counted(std::uint64_t count, std::string_view singular, std::string_view plural) {
  if (count == 1) return fmt::format("1 {}", singular);
  if (plural.empty()) return fmt::format("{} {}s", format_count(count), singular);
  return fmt::format("{} {}", format_count(count), plural);
}

std::optional<Nanos> parse_duration(std::string_view text) {
  auto m = parse_measured(text);
  if (!m || m->unit.empty()) return std::nullopt;
  std::string unit = lower_ascii(m->unit);
  if (unit.size() > 1 && unit.back() == 's') unit.pop_back();
  static constexpr std::array<std::pair<std::string_view, Nanos>, 12> kUnits = {
      {{"second", kSecond},
       {"sec", kSecond},
       {"s", kSecond},
       {"minute", kMinute},
       {"min", kMinute},
       {"hour", kHour},
       {"h", kHour},
       {"day", kDay},
       {"d", kDay},
       {"week", 7 * kDay},
       {"month", 30 * kDay},
       {"year", 365 * kDay}}};
  for (const auto& [name, factor] : kUnits) {
    if (unit != name) continue;
    double nanos = m->value * static_cast<double>(factor);
    if (nanos > 9.2e18) return std::nullopt;
    return static_cast<Nanos>(nanos);
  }
  return std::nullopt;
}

std::string format_ago(Nanos then, Nanos now) {
  Nanos age = std::max<Nanos>(0, now - then);
  if (age < kMinute) return "just now";
  if (age < kHour) return counted(static_cast<std::uint64_t>(age / kMinute), "minute") + " ago";
  if (age < 2 * kDay) return counted(static_cast<std::uint64_t>(age / kHour), "hour") + " ago";
  return counted(static_cast<std::uint64_t>(age / kDay), "day") + " ago";
}

std::string format_duration(Nanos duration) {
  if (duration < 0) duration = 0;
  double seconds = static_cast<double>(duration) / static_cast<double>(kSecond);
  if (seconds < 9.95) return fmt::format("{:.1f} s", seconds);
  std::int64_t rounded = std::llround(seconds);
  if (rounded < 60) return fmt::format("{} s", rounded);
  if (rounded < 3600) return fmt::format("{} min {:02} s", rounded / 60, rounded % 60);
  if (rounded < 48 * 3600) return fmt::format("{} h {:02} min", rounded / 3600, rounded / 60 % 60);
  return fmt::format("{} days", rounded / 86400);
}

std::optional<Nanos> parse_rfc3339(std::string_view text) {
  auto number = [&](std::size_t at, std::size_t digits) -> int {
    if (at + digits > text.size()) return -1;
    int value = 0;
    for (std::size_t i = at; i < at + digits; ++i) {
      if (text[i] < '0' || text[i] > '9') return -1;
      value = value * 10 + (text[i] - '0');
    }
    return value;
  };
  if (text.size() < 20 || text[4] != '-' || text[7] != '-' ||
      (text[10] != 'T' && text[10] != 't' && text[10] != ' ') || text[13] != ':' ||
      text[16] != ':') {
    return std::nullopt;
  }
  int year = number(0, 4), month = number(5, 2), day = number(8, 2);
  int hour = number(11, 2), minute = number(14, 2), second = number(17, 2);
  date::year_month_day date{date::year(year), date::month(static_cast<unsigned>(month)),
                            date::day(static_cast<unsigned>(day))};
  if (year < 1970 || month < 0 || day < 0 || !date.ok() || hour < 0 || hour > 23 || minute < 0 ||
      minute > 59 || second < 0 || second > 59) {
    return std::nullopt;
  }
  std::size_t at = 19;
  Nanos fraction = 0;
  if (text[at] == '.') {
    Nanos unit = kSecond / 10;
    std::size_t start = ++at;
    for (; at < text.size() && text[at] >= '0' && text[at] <= '9'; ++at, unit /= 10) {
      fraction += (text[at] - '0') * unit;
    }
    if (at == start || at == text.size()) return std::nullopt;
  }
  int offset_minutes = 0;
  if (text[at] == 'Z' || text[at] == 'z') {
    if (at + 1 != text.size()) return std::nullopt;
  } else if (text[at] == '+' || text[at] == '-') {
    int h = number(at + 1, 2), m = number(at + 4, 2);
    if (text.size() != at + 6 || text[at + 3] != ':' || h < 0 || h > 23 || m < 0 || m > 59) {
      return std::nullopt;
    }
    offset_minutes = (text[at] == '-' ? -1 : 1) * (h * 60 + m);
  } else {
    return std::nullopt;
  }
  std::int64_t seconds = date::sys_days(date).time_since_epoch().count() * 86'400LL +
                         hour * 3600LL + minute * 60LL + second - offset_minutes * 60LL;
  if (seconds > INT64_MAX / kSecond - 1) return std::nullopt;
  return seconds * kSecond + fraction;
}

std::string format_rfc3339(Nanos time) {
  std::time_t seconds = time / kSecond - (time % kSecond < 0);
  std::tm tm{};
  gmtime_r(&seconds, &tm);
  return fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}Z", tm.tm_year + 1900, tm.tm_mon + 1,
                     tm.tm_mday, tm.tm_hour, tm.tm_min, tm.tm_sec);
}

namespace {

std::tm local_time(Nanos time) {
  std::time_t seconds = time / kSecond - (time % kSecond < 0);
  std::tm tm{};
  localtime_r(&seconds, &tm);
  return tm;
}

}  // namespace

std::string format_local(Nanos time) {
  std::tm tm = local_time(time);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}", tm.tm_year + 1900, tm.tm_mon + 1, tm.tm_mday,
                     tm.tm_hour, tm.tm_min);
}

std::string format_local_day(Nanos time) {
  constexpr const char* kDays[] = {"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"};
  return std::string(kDays[local_time(time).tm_wday]) + " " + format_local(time);
}

std::string format_day(Nanos time) {
  return format_local_day(time).substr(0, 14);
}

}  // namespace kestrum
