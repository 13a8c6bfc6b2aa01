// Names of days, months and numbers, in the order of the calendar.
#pragma once

#include <array>
#include <string_view>

namespace kestrum {

inline constexpr std::array<std::string_view, 7> kWeekdayNames = {
    "sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"};
inline constexpr std::array<std::string_view, 12> kMonthNames = {
    "january", "february", "march",     "april",   "may",      "june",
    "july",    "august",   "september", "october", "november", "december"};
inline constexpr std::array<std::string_view, 5> kOrdinals = {"first", "second", "third", "fourth",
                                                              "fifth"};
inline constexpr unsigned kAllWeek = 0x7f, kWorkingDays = 0x3e, kWeekend = 0x41;

}  // namespace kestrum
