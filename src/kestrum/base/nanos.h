// Moments and lengths of time.
#pragma once

#include <cstdint>

namespace kestrum {

// Nanoseconds since 1970-01-01T00:00:00Z, leap seconds not counted.
using Nanos = std::int64_t;
inline constexpr Nanos kSecond = 1'000'000'000;
inline constexpr Nanos kMinute = 60 * kSecond;
inline constexpr Nanos kHour = 60 * kMinute;
inline constexpr Nanos kDay = 24 * kHour;

}  // namespace kestrum
