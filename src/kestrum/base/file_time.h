// The times of files. They come from disks and may be anything that fits a timespec: 1601, where a
// Windows disk knows none, or the year 30000. Nanos, which ends in 2262, does not hold them.
#pragma once

#include <compare>
#include <cstdint>
#include <ctime>
#include <limits>

#include "kestrum/base/nanos.h"

namespace kestrum {

struct FileTime {
  std::int64_t seconds = 0;  // since 1970-01-01T00:00:00Z, rounded down
  std::uint32_t nanos = 0;   // and so many nanoseconds, below 10^9

  constexpr FileTime() = default;
  constexpr FileTime(std::int64_t s, std::uint32_t n) : seconds(s), nanos(n) {}
  // Every moment is one, so this is not explicit.
  constexpr FileTime(Nanos moment)  // NOLINT(google-explicit-constructor)
      : seconds(moment / kSecond - (moment % kSecond < 0)),
        nanos(static_cast<std::uint32_t>(moment - seconds * kSecond)) {}
  explicit constexpr FileTime(const timespec& t)
      : seconds(t.tv_sec), nanos(static_cast<std::uint32_t>(t.tv_nsec)) {}

  constexpr timespec spec() const { return {seconds, static_cast<long>(nanos)}; }
  constexpr bool fits_nanos() const { return seconds > kFirst && seconds < kLast; }
  // The moment, or the nearest that Nanos holds: to be shown, and to be compared with a clock.
  constexpr Nanos moment() const {
    if (seconds <= kFirst) return std::numeric_limits<Nanos>::min();
    if (seconds >= kLast) return std::numeric_limits<Nanos>::max();
    return seconds * kSecond + nanos;
  }
  constexpr auto operator<=>(const FileTime&) const = default;

 private:
  static constexpr std::int64_t kLast = std::numeric_limits<Nanos>::max() / kSecond;
  static constexpr std::int64_t kFirst = std::numeric_limits<Nanos>::min() / kSecond;
};

}  // namespace kestrum
