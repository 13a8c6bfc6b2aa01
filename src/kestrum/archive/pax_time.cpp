#include "kestrum/archive/pax_time.h"

#include <fmt/compile.h>
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cstdint>
#include <iterator>

namespace kestrum {

std::string pax_time(FileTime time) {
  // Before 1970 the fraction counts from the second above: -1.25 is 0.75 s behind -2.
  bool negative = time.seconds < 0;
  auto magnitude = static_cast<std::uint64_t>(time.seconds);
  if (negative) magnitude = -magnitude - (time.nanos > 0);
  std::uint64_t fraction =
      negative && time.nanos > 0 ? static_cast<std::uint64_t>(kSecond) - time.nanos : time.nanos;
  std::string text = fmt::format(FMT_COMPILE("{}{}"), negative ? "-" : "", magnitude);
  if (fraction != 0) {
    fmt::format_to(std::back_inserter(text), FMT_COMPILE(".{:09}"), fraction);
    text.erase(text.find_last_not_of('0') + 1);
  }
  return text;
}

std::optional<FileTime> parse_pax_time(std::string_view text) {
  bool negative = text.starts_with('-');
  if (negative) text.remove_prefix(1);
  std::size_t point = std::min(text.find('.'), text.size());
  std::int64_t seconds = 0;
  auto [end, error] = std::from_chars(text.data(), text.data() + point, seconds);
  bool whole = error == std::errc() && end == text.data() + point && point > 0;
  if (!whole || seconds < 0 || seconds == INT64_MAX) return std::nullopt;
  Nanos fraction = 0, unit = kSecond / 10;
  for (std::size_t i = point + 1; i < text.size(); ++i, unit /= 10) {
    if (text[i] < '0' || text[i] > '9') return std::nullopt;
    fraction += (text[i] - '0') * unit;
  }
  if (!negative) return FileTime(seconds, static_cast<std::uint32_t>(fraction));
  if (fraction == 0) return FileTime(-seconds, 0);
  return FileTime(-seconds - 1, static_cast<std::uint32_t>(kSecond - fraction));
}

}  // namespace kestrum
