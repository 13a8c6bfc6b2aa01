// Local time by the system's zone data, and what becomes of a time of day when clocks change.
#pragma once

#include <date/tz.h>

#include <functional>
#include <string>

#include "kestrum/base/clock.h"

namespace kestrum {

using LocalDay = date::local_days;  // a calendar day

// A calendar day and the minutes since its midnight by the wall clock.
struct WallTime {
  LocalDay day;
  int minute = 0;
};

class Zone {
 public:
  // The zone that TZ names, the system's without TZ.
  static Zone local();
  // A zone of the zone database; for any other text (such as "CET-1CEST") what the C library makes
  // of the process's TZ.
  static Zone named(const std::string& tz);

  // The moment when a wall clock shows `wall`: of a time that is skipped the first moment after the
  // gap, of one that comes twice the first. Beyond what Nanos holds (the years 1678 to 2261), the
  // nearest that it does.
  Nanos moment(WallTime wall) const;
  WallTime wall(Nanos moment) const;

 private:
  static Zone by_c_library();
  std::function<date::local_info(date::local_seconds)> of_local_;
  std::function<date::sys_info(date::sys_seconds)> of_system_;
};

}  // namespace kestrum
