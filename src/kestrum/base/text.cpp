#include "kestrum/base/text.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <ctime>

namespace kestrum {
namespace {

// Splits "1.5 TB" into the number and the unit behind it. Nothing if there is no plain number.
struct Measured {
  double value;
  bool whole;  // no decimal point
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
  m.whole = points == 0;
  if (m.whole) {
    auto [p, ec] = std::from_chars(text.data(), text.data() + end, m.integer);
    if (ec != std::errc()) return std::nullopt;
  }
  auto [p, ec] = std::from_chars(text.data(), text.data() + end, m.value);
  if (ec != std::errc()) return std::nullopt;
  m.unit = std::string(trimmed(text.substr(end)));
  return m;
}

bool leap(int year) {
  return (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
}

int days_in_month(int year, int month) {
  constexpr std::array<int, 12> kDays = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
  return month == 2 && leap(year) ? 29 : kDays[month - 1];
}

// Length of the UTF-8 sequence at `text[i]`, 0 if there is no valid one.
std::size_t utf8_length(std::string_view text, std::size_t i) {
  auto byte = [&](std::size_t k) { return static_cast<unsigned char>(text[k]); };
  unsigned char lead = byte(i);
  if (lead < 0x80) return 1;
  std::size_t n = lead >= 0xC2 && lead <= 0xDF   ? 2
                  : lead >= 0xE0 && lead <= 0xEF ? 3
                  : lead >= 0xF0 && lead <= 0xF4 ? 4
                                                 : 0;
  if (n == 0 || i + n > text.size()) return 0;
  for (std::size_t k = 1; k < n; ++k) {
    if ((byte(i + k) & 0xC0) != 0x80) return 0;
  }
  if (lead == 0xE0 && byte(i + 1) < 0xA0) return 0;  // overlong
  if (lead == 0xED && byte(i + 1) > 0x9F) return 0;  // surrogate
  if (lead == 0xF0 && byte(i + 1) < 0x90) return 0;  // overlong
  if (lead == 0xF4 && byte(i + 1) > 0x8F) return 0;  // beyond U+10FFFF
  return n;
}

}  // namespace

std::optional<std::uint32_t> parse_number(std::string_view text, std::uint32_t most) {
  std::uint32_t value = 0;
  auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), value);
  bool whole = ec == std::errc() && !text.empty() && end == text.data() + text.size();
  return whole && value <= most ? std::optional(value) : std::nullopt;
}

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
    if (m->whole) {
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
  std::int64_t whole = std::llround(seconds);
  if (whole < 60) return fmt::format("{} s", whole);
  if (whole < 3600) return fmt::format("{} min {:02} s", whole / 60, whole % 60);
  if (whole < 48 * 3600) return fmt::format("{} h {:02} min", whole / 3600, whole / 60 % 60);
  return fmt::format("{} days", whole / 86400);
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
  if (year < 1970 || month < 1 || month > 12 || day < 1 || day > days_in_month(year, month) ||
      hour < 0 || hour > 23 || minute < 0 || minute > 59 || second < 0 || second > 59) {
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
  std::tm tm{};
  tm.tm_year = year - 1900;
  tm.tm_mon = month - 1;
  tm.tm_mday = day;
  tm.tm_hour = hour;
  tm.tm_min = minute;
  tm.tm_sec = second;
  std::int64_t seconds = timegm(&tm) - offset_minutes * 60LL;
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

std::string format_local(Nanos time) {
  std::time_t seconds = time / kSecond - (time % kSecond < 0);
  std::tm tm{};
  localtime_r(&seconds, &tm);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}", tm.tm_year + 1900, tm.tm_mon + 1, tm.tm_mday,
                     tm.tm_hour, tm.tm_min);
}

bool is_utf8(std::string_view text) {
  for (std::size_t i = 0; i < text.size();) {
    std::size_t n = utf8_length(text, i);
    if (n == 0) return false;
    i += n;
  }
  return true;
}

std::string printable(std::string_view name) {
  std::string out;
  out.reserve(name.size());
  for (std::size_t i = 0; i < name.size();) {
    auto c = static_cast<unsigned char>(name[i]);
    std::size_t n = utf8_length(name, i);
    // C1 controls (U+0080 to U+009F) and the bidirectional overrides can rewrite a terminal line.
    bool c1 = n == 2 && c == 0xC2 && static_cast<unsigned char>(name[i + 1]) < 0xA0;
    bool bidi = n == 3 && c == 0xE2 &&
                ((name[i + 1] == '\x80' && static_cast<unsigned char>(name[i + 2]) >= 0xAA &&
                  static_cast<unsigned char>(name[i + 2]) <= 0xAE) ||
                 (name[i + 1] == '\x81' && static_cast<unsigned char>(name[i + 2]) >= 0xA6 &&
                  static_cast<unsigned char>(name[i + 2]) <= 0xA9));
    if (c == '\n') {
      out += "\\n";
    } else if (c == '\t') {
      out += "\\t";
    } else if (c == '\r') {
      out += "\\r";
    } else if (n == 0 || c < 0x20 || c == 0x7F) {
      out += fmt::format("\\x{:02x}", c);
      n = 1;
      ++i;
      continue;
    } else if (c1 || bidi) {
      for (std::size_t k = 0; k < n; ++k) {
        out += fmt::format("\\x{:02x}", static_cast<unsigned char>(name[i + k]));
      }
    } else {
      out.append(name.substr(i, n));
    }
    i += n == 0 ? 1 : n;
  }
  return out;
}

std::size_t display_width(std::string_view utf8) {
  return std::count_if(utf8.begin(), utf8.end(),
                       [](char c) { return (static_cast<unsigned char>(c) & 0xC0) != 0x80; });
}

std::string shortened(std::string_view text, std::size_t columns) {
  if (display_width(text) <= columns) return std::string(text);
  if (columns < 5) return std::string(columns, '.');
  auto bytes_of = [&](std::size_t wanted) {  // bytes of the first `wanted` code points
    std::size_t i = 0;
    for (std::size_t seen = 0; i < text.size(); ++i) {
      if ((static_cast<unsigned char>(text[i]) & 0xC0) != 0x80 && seen++ == wanted) break;
    }
    return i;
  };
  std::size_t head = (columns - 3) / 3, tail = columns - 3 - head;
  return std::string(text.substr(0, bytes_of(head))) + "..." +
         std::string(text.substr(bytes_of(display_width(text) - tail)));
}

std::string lower_ascii(std::string_view text) {
  std::string out(text);
  for (char& c : out) {
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  }
  return out;
}

std::string_view trimmed(std::string_view text) {
  constexpr std::string_view kBlank = " \t\r\n";
  std::size_t begin = text.find_first_not_of(kBlank);
  if (begin == std::string_view::npos) return {};
  return text.substr(begin, text.find_last_not_of(kBlank) - begin + 1);
}

std::vector<std::string> split(std::string_view text, char separator) {
  std::vector<std::string> parts;
  for (std::size_t begin = 0;;) {
    std::size_t end = text.find(separator, begin);
    parts.emplace_back(text.substr(begin, end - begin));
    if (end == std::string_view::npos) return parts;
    begin = end + 1;
  }
}

std::optional<std::string> nearest_word(std::string_view word,
                                        const std::vector<std::string>& words) {
  // Letters added, dropped, changed, or two swapped.
  auto distance = [](std::string_view a, std::string_view b) {
    std::vector<std::vector<std::size_t>> d(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
    for (std::size_t i = 0; i <= a.size(); ++i) d[i][0] = i;
    for (std::size_t j = 0; j <= b.size(); ++j) d[0][j] = j;
    for (std::size_t i = 1; i <= a.size(); ++i) {
      for (std::size_t j = 1; j <= b.size(); ++j) {
        d[i][j] =
            std::min({d[i - 1][j] + 1, d[i][j - 1] + 1, d[i - 1][j - 1] + (a[i - 1] != b[j - 1])});
        bool swapped = i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1];
        if (swapped) d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
      }
    }
    return d[a.size()][b.size()];
  };
  std::optional<std::string> best;
  std::size_t limit = std::max<std::size_t>(1, word.size() / 3) + 1;
  for (const auto& candidate : words) {
    std::size_t d = candidate.starts_with(word) && word.size() >= 3 ? 1 : distance(word, candidate);
    if (d < limit) {
      limit = d;
      best = candidate;
    }
  }
  return best;
}

std::string counted(std::uint64_t count, std::string_view singular, std::string_view plural) {
  if (count == 1) return fmt::format("1 {}", singular);
  if (plural.empty()) return fmt::format("{} {}s", format_count(count), singular);
  return fmt::format("{} {}", format_count(count), plural);
}

}  // namespace kestrum
