#include "kestrum/base/clock.h"

#include <sys/timex.h>

#include <chrono>
#include <cstdlib>

#include "kestrum/base/error.h"
#include "kestrum/base/units.h"

namespace kestrum {

Nanos real_now() {
  return std::chrono::duration_cast<std::chrono::nanoseconds>(
             std::chrono::system_clock::now().time_since_epoch())
      .count();
}

Nanos steady_now() {
  return std::chrono::duration_cast<std::chrono::nanoseconds>(
             std::chrono::steady_clock::now().time_since_epoch())
      .count();
}

Clock Clock::from_environment() {
  const char* text = std::getenv("KESTRUM_NOW");
  if (text == nullptr || *text == '\0') return Clock();
  if (auto time = parse_rfc3339(text)) return Clock(*time);
  throw Error(ErrorKind::kUsage, std::string("KESTRUM_NOW: not a time: ") + text,
              "write it as 2026-03-02T21:00:00Z");
}

Nanos calendar_now() {
  return Clock::from_environment().now();
}

bool clock_is_synchronised() {
  timex state{};
  return ::adjtimex(&state) != TIME_ERROR && (state.status & STA_UNSYNC) == 0;
}

}  // namespace kestrum
