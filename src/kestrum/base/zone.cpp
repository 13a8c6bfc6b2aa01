#include "kestrum/base/zone.h"

#include <algorithm>
#include <cstdint>
#include <cstdlib>
#include <ctime>

namespace kestrum {

using namespace std::chrono;

namespace {

// Of what Nanos can hold, with a day to spare for whoever reckons on.
constexpr std::int64_t kMostSeconds = INT64_MAX / kSecond - 24 * 3600;

date::sys_info system_info(date::sys_seconds t) {
  std::time_t time = t.time_since_epoch().count();
  std::tm tm{};
  ::localtime_r(&time, &tm);
  date::sys_info info;
  info.offset = seconds(tm.tm_gmtoff);
  return info;
}

// The C library has no call for this: a wall clock's time lies a day's offset before or behind.
date::local_info local_info_of(date::local_seconds local) {
  auto as_utc = [&](seconds offset) {
    return date::sys_seconds(local.time_since_epoch() - offset);
  };
  seconds before = system_info(as_utc(hours(24))).offset,
          after = system_info(as_utc(hours(-24))).offset;
  date::local_info info;
  for (seconds offset : {std::max(before, after), std::min(before, after)}) {
    info.first.offset = offset;
    if (system_info(as_utc(offset)).offset != offset) continue;
    info.result = date::local_info::unique;
    return info;
  }
  info.result = date::local_info::nonexistent;
  date::sys_seconds low = as_utc(std::max(before, after)), high = as_utc(std::min(before, after));
  while (high - low > seconds(1)) {
    date::sys_seconds middle = low + (high - low) / 2;
    (system_info(middle).offset == before ? low : high) = middle;
  }
  info.first.end = high;
  return info;
}

}  // namespace

Zone Zone::local() {
  if (const char* tz = std::getenv("TZ"); tz != nullptr) return named(tz);
  Zone zone;
  try {
    const date::time_zone* system = date::current_zone();
    zone.of_local_ = [system](date::local_seconds t) { return system->get_info(t); };
    zone.of_system_ = [system](date::sys_seconds t) { return system->get_info(t); };
    return zone;
  } catch (const std::exception&) {  // no /etc/localtime
    return by_c_library();
  }
}

Zone Zone::named(const std::string& tz) {
  constexpr std::string_view kFolder = "/usr/share/zoneinfo/";
  std::string name = tz.starts_with(':') ? tz.substr(1) : tz;
  if (name.starts_with(kFolder)) name = name.substr(kFolder.size());
  try {
    Zone zone;
    const date::time_zone* known = date::locate_zone(name);
    zone.of_local_ = [known](date::local_seconds t) { return known->get_info(t); };
    zone.of_system_ = [known](date::sys_seconds t) { return known->get_info(t); };
    return zone;
  } catch (const std::exception&) {  // a rule, or nothing that is known
    return by_c_library();
  }
}

Zone Zone::by_c_library() {
  Zone zone;
  zone.of_local_ = local_info_of;
  zone.of_system_ = system_info;
  return zone;
}

Nanos Zone::moment(WallTime wall) const {
  date::local_seconds local = wall.day + minutes(wall.minute);
  date::local_info info = of_local_(local);
  std::int64_t since = info.result == date::local_info::nonexistent
                           ? info.first.end.time_since_epoch().count()
                           : (local.time_since_epoch() - info.first.offset).count();
  return std::clamp(since, -kMostSeconds, kMostSeconds) * kSecond;
}

WallTime Zone::wall(Nanos moment) const {
  Nanos seconds_since = moment / kSecond - (moment % kSecond < 0);
  date::sys_seconds t{seconds(seconds_since)};
  date::local_seconds local{t.time_since_epoch() + of_system_(t).offset};
  LocalDay day = date::floor<date::days>(local);
  return {day, static_cast<int>(date::floor<minutes>(local - day).count())};
}

}  // namespace kestrum
