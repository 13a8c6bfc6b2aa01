// Time as the program sees it. The clock is passed in, so that weeks can be replayed in seconds.
#pragma once

#include <cstdint>
#include <optional>

namespace kestrum {

// Nanoseconds since 1970-01-01T00:00:00Z, leap seconds not counted.
using Nanos = std::int64_t;
inline constexpr Nanos kSecond = 1'000'000'000;
inline constexpr Nanos kMinute = 60 * kSecond;
inline constexpr Nanos kHour = 60 * kMinute;
inline constexpr Nanos kDay = 24 * kHour;

// The system's clock, never simulated: for measuring and for change detection.
Nanos real_now();

// Time that only goes on, whatever is done to the clock: for waiting and limits.
Nanos steady_now();

class Clock {
 public:
  Clock() = default;
  explicit Clock(Nanos simulated) : simulated_(simulated) {}

  // The clock that KESTRUM_NOW sets (RFC 3339), or the system's. Throws Error(kUsage) if the
  // variable is set and is not a time.
  static Clock from_environment();

  Nanos now() const { return simulated_ ? *simulated_ : real_now(); }
  bool simulated() const { return simulated_.has_value(); }

 private:
  std::optional<Nanos> simulated_;
};

}  // namespace kestrum
