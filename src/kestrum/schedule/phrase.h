// When a job runs, as people say it: "every day at 21:00", "monthly on the third tuesday at 08:30".
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "kestrum/base/zone.h"

namespace kestrum {

struct Phrase {
  enum class Pattern {
    kInterval,        // every `every` minutes from midnight, at `offset` minutes behind it
    kDays,            // every `every` days
    kWeekdays,        // on `weekdays` of every `every`th week
    kMonthDay,        // on `day` of every `every`th month
    kMonthWeekday,    // on the `nth` `weekday` of every `every`th month
    kYearly,          // on `day` of `month`
    kOnce,            // on `date`
    kWhenFilesChange  // at most every `every` minutes
  };
  Pattern pattern = Pattern::kDays;
  unsigned every = 1;
  unsigned offset = 0;     // minutes
  std::vector<int> times;  // minutes since midnight, in order; of all but kInterval
  unsigned weekdays = 0;   // bits; 0 is Sunday
  unsigned day = 0;        // 1 to 31; 0: the last. A month without a day 31 uses its last.
  int nth = 0;             // 1 to 5; -1: the last
  unsigned weekday = 0;
  unsigned month = 0;  // 1 to 12
  LocalDay date{};

  bool timed() const { return pattern != Pattern::kWhenFilesChange; }
  // The standard form, which parse_phrase understands.
  std::string text() const;
  // The minutes of `date` at which it falls due, in order; empty on other days.
  std::vector<int> minutes_on(LocalDay day) const;
};

}  // namespace kestrum
