// Moments as an iCalendar file (RFC 5545).
#pragma once

#include <string>
#include <vector>

#include "kestrum/base/clock.h"

namespace kestrum {

struct CalendarEntry {
  std::string id;  // unique, the same for the same entry in every file
  Nanos at = 0;
  std::string title;
};

// Each entry is an event of no length that does not block the calendar; `now` is its time stamp.
std::string calendar_text(const std::vector<CalendarEntry>& entries, Nanos now);

}  // namespace kestrum
