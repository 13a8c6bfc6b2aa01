#include "kestrum/schedule/timetable.h"

#include <gtest/gtest.h>

#include <cstdlib>
#include <ctime>

#include "kestrum/base/units.h"
#include "kestrum/schedule/phrase_parser.h"

namespace kestrum {
namespace {

Nanos moment_of(const char* text) {
  return *parse_rfc3339(text);
}

Timetable table(const std::string& phrase, const std::string& zone, Nanos offset = 0) {
  return Timetable({*parse_phrase(phrase)}, Zone::named(zone), offset);
}

std::string next(const std::string& phrase, const std::string& zone, const char* after) {
  auto moment = table(phrase, zone).next_after(moment_of(after));
  return moment ? format_rfc3339(*moment) : "never";
}

TEST(Timetable, FindsTheNextMoment) {
  EXPECT_EQ(next("every day at 21:00", "UTC", "2026-03-02T21:00:00Z"), "2026-03-03T21:00:00Z");
  EXPECT_EQ(next("every day at 21:00", "UTC", "2026-03-02T20:59:59Z"), "2026-03-02T21:00:00Z");
  EXPECT_EQ(next("every weekday at 12:30", "UTC", "2026-03-06T13:00:00Z"), "2026-03-09T12:30:00Z");
  EXPECT_EQ(next("monthly on day 31 at 06:00", "UTC", "2026-02-01T00:00:00Z"),
            "2026-02-28T06:00:00Z");
  EXPECT_EQ(next("monthly on the last day at 23:00", "UTC", "2028-02-01T00:00:00Z"),
            "2028-02-29T23:00:00Z");
  EXPECT_EQ(next("monthly on the fifth friday at 06:00", "UTC", "2026-02-01T00:00:00Z"),
            "2026-05-29T06:00:00Z");
  EXPECT_EQ(next("monthly on the last friday at 06:00", "UTC", "2026-02-01T00:00:00Z"),
            "2026-02-27T06:00:00Z");
  EXPECT_EQ(next("yearly on 29 feb at 06:00", "UTC", "2026-03-01T00:00:00Z"),
            "2027-02-28T06:00:00Z");
  EXPECT_EQ(next("once on 2026-12-24 at 18:00", "UTC", "2026-12-24T18:00:00Z"), "never");
  EXPECT_EQ(next("once on 2199-12-24 at 18:00", "UTC", "2026-12-24T18:00:00Z"),
            "2199-12-24T18:00:00Z");
  EXPECT_EQ(next("every 7 hours", "UTC", "2026-03-02T21:00:00Z"), "2026-03-03T00:00:00Z");
  EXPECT_EQ(next("every 2 weeks on mon at 06:00", "UTC", "2026-03-03T00:00:00Z"),
            next("every 2 weeks on mon at 06:00", "UTC", "2026-03-08T00:00:00Z"));
}

TEST(Timetable, ASkippedTimeRunsAtTheFirstMomentAfterAndARepeatedOneOnce) {
  EXPECT_EQ(next("every day at 02:30", "Europe/Berlin", "2026-03-28T12:00:00Z"),
            "2026-03-29T01:00:00Z");
  Timetable autumn = table("every day at 02:30", "Europe/Berlin");
  auto first = autumn.next_after(moment_of("2026-10-24T12:00:00Z"));
  EXPECT_EQ(format_rfc3339(*first), "2026-10-25T00:30:00Z");
  EXPECT_EQ(format_rfc3339(*autumn.next_after(*first)), "2026-10-26T01:30:00Z");
  // A whole day that a zone skipped.
  EXPECT_EQ(next("once on 2011-12-30 at 12:00", "Pacific/Apia", "2011-12-28T00:00:00Z"),
            "2011-12-30T10:00:00Z");
}

TEST(Timetable, ASpreadShiftsEveryMoment) {
  Timetable shifted = table("every day at 21:00", "UTC", 17 * kMinute);
  EXPECT_EQ(format_rfc3339(*shifted.next_after(moment_of("2026-03-02T21:10:00Z"))),
            "2026-03-02T21:17:00Z");
  EXPECT_EQ(format_rfc3339(*shifted.last_until(moment_of("2026-03-02T21:10:00Z"))),
            "2026-03-01T21:17:00Z");
}

// The C library's zone code, asked for every minute of a year, is the reference.
class WholeYear : public testing::TestWithParam<const char*> {
 protected:
  void SetUp() override {
    const char* tz = std::getenv("TZ");
    before_ = tz == nullptr ? "" : tz;
    ::setenv("TZ", GetParam(), 1);
    ::tzset();
  }
  void TearDown() override {
    before_.empty() ? ::unsetenv("TZ") : ::setenv("TZ", before_.c_str(), 1);
    ::tzset();
  }
  std::string before_;
};

TEST_P(WholeYear, AgreesWithTheSystemMinuteByMinute) {
  struct Minute {
    std::time_t utc;
    std::int64_t day;  // by the wall clock, since 1970
    int minute;
  };
  std::vector<Minute> year;
  std::time_t begin = moment_of("2026-01-01T00:00:00Z") / kSecond,
              end = moment_of("2027-01-03T00:00:00Z") / kSecond;
  for (std::time_t t = begin; t < end; t += 60) {
    std::tm tm{};
    ::localtime_r(&t, &tm);
    std::tm midnight = tm;
    midnight.tm_hour = midnight.tm_min = midnight.tm_sec = 0;
    year.push_back({t, ::timegm(&midnight) / 86400, tm.tm_hour * 60 + tm.tm_min});
  }
  for (int minute : {0, 26, 90, 105, 120, 135, 150, 165, 180, 1260, 1439}) {
    std::vector<std::time_t> expected;
    // For each day the first minute that shows the time; where none does, the first that is later.
    std::int64_t day = year.front().day + 1, last_day = year.back().day - 1;
    for (std::size_t i = 0; day <= last_day && i < year.size(); ++i) {
      bool reached = year[i].day > day || (year[i].day == day && year[i].minute >= minute);
      if (!reached) continue;
      expected.push_back(year[i].utc);
      ++day;
    }
    Phrase phrase{Phrase::Pattern::kDays};
    phrase.times = {minute};
    Timetable timetable({phrase}, Zone::named(GetParam()));
    std::vector<std::time_t> found;
    // From the midnight that begins the first day.
    Nanos t = Zone::named(GetParam()).moment({LocalDay(date::days(year.front().day + 1)), 0}) - 1;
    while (found.size() < expected.size()) {
      t = *timetable.next_after(t);
      found.push_back(t / kSecond);
      ASSERT_EQ(*timetable.last_until(t), t);
      ASSERT_LT(*timetable.last_until(t - 1), t);
    }
    EXPECT_EQ(found, expected) << minute;
  }
}

INSTANTIATE_TEST_SUITE_P(Zones, WholeYear,
                         testing::Values("Europe/Berlin", "America/New_York", "Asia/Kolkata",
                                         "Australia/Lord_Howe", "Africa/Casablanca",
                                         "CET-1CEST,M3.5.0,M10.5.0/3"));

TEST(Zone, TakesNamesAndRules) {
  WallTime noon{LocalDay(date::year(2026) / 7 / 1), 12 * 60};
  EXPECT_EQ(format_rfc3339(Zone::named("Europe/Berlin").moment(noon)), "2026-07-01T10:00:00Z");
  EXPECT_EQ(format_rfc3339(Zone::named(":/usr/share/zoneinfo/Europe/Berlin").moment(noon)),
            "2026-07-01T10:00:00Z");
}

}  // namespace
}  // namespace kestrum
