// Time as the program sees it. The clock is passed in, so that weeks can be replayed in seconds.
#pragma once

#include <optional>

#include "kestrum/base/nanos.h"

namespace kestrum {

// The system's clock, never simulated: for measuring and for change detection.
Nanos real_now();
// What the user's calendar shows: what KESTRUM_NOW says, or the system's clock. For all that is
// told in days and hours, and remembered for it. Throws Error(kUsage) as Clock::from_environment
// does.
Nanos calendar_now();

// Time that only goes on, whatever is done to the clock: for waiting and limits.
Nanos steady_now();

// Whether the kernel holds the system's clock in step with another one (adjtimex(2)), so that it is
// right to the second.
bool clock_is_synchronised();

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
