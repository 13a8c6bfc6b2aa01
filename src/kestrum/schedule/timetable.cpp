#include "kestrum/schedule/timetable.h"

#include <algorithm>

namespace kestrum {
namespace {

// Every phrase falls due at least once in so many days: "every 12 months on day 31" does in 366,
// and one that is said for the fifth Friday of every third month takes longest.
constexpr int kHorizonDays = 366 * 12;
// A moment of a calendar day may lie on the next day by the wall clock, where a clock change skips
// the end of a day or all of it.
constexpr int kShiftDays = 2;

}  // namespace

Timetable::Timetable(std::vector<Phrase> phrases, Zone zone, Nanos offset)
    : phrases_(std::move(phrases)), zone_(std::move(zone)), offset_(offset) {}

std::optional<Nanos> Timetable::next_of(const Phrase& phrase, Nanos time) const {
  LocalDay today = zone_.wall(time).day;
  LocalDay from = today - date::days(kShiftDays), to = today + date::days(kHorizonDays);
  if (phrase.pattern == Phrase::Pattern::kOnce) {
    from = std::max(from, phrase.date);
    to = std::min(to, phrase.date);
    if (phrase.date > today + date::days(kHorizonDays)) from = to = phrase.date;
  }
  for (LocalDay day = from; day <= to; day += date::days(1)) {
    for (int minute : phrase.minutes_on(day)) {
      Nanos moment = zone_.moment({day, minute});
      if (moment > time) return moment;
    }
  }
  return std::nullopt;
}

std::optional<Nanos> Timetable::last_of(const Phrase& phrase, Nanos time) const {
  LocalDay today = zone_.wall(time).day;
  LocalDay from = today, to = today - date::days(kHorizonDays);
  if (phrase.pattern == Phrase::Pattern::kOnce) from = to = phrase.date;
  for (LocalDay day = from; day >= to; day -= date::days(1)) {
    std::vector<int> minutes = phrase.minutes_on(day);
    for (auto minute = minutes.rbegin(); minute != minutes.rend(); ++minute) {
      Nanos moment = zone_.moment({day, *minute});
      if (moment <= time) return moment;
    }
  }
  return std::nullopt;
}

std::optional<Nanos> Timetable::next_after(Nanos time) const {
  std::optional<Nanos> best;
  for (const Phrase& phrase : phrases_) {
    if (!phrase.timed()) continue;
    auto moment = next_of(phrase, time - offset_);
    if (moment && (!best || *moment < *best)) best = moment;
  }
  if (best) *best += offset_;
  return best;
}

std::optional<Nanos> Timetable::last_until(Nanos time) const {
  std::optional<Nanos> best;
  for (const Phrase& phrase : phrases_) {
    if (!phrase.timed()) continue;
    auto moment = last_of(phrase, time - offset_);
    if (moment && (!best || *moment > *best)) best = moment;
  }
  if (best) *best += offset_;
  return best;
}

std::uint64_t Timetable::count(Nanos from, Nanos to, std::uint64_t limit) const {
  std::uint64_t count = 0;
  for (auto at = next_after(from); at && *at <= to && count < limit; at = next_after(*at)) ++count;
  return count;
}

bool Timetable::timed() const {
  return std::any_of(phrases_.begin(), phrases_.end(), [](const Phrase& p) { return p.timed(); });
}

std::optional<Nanos> Timetable::when_files_change() const {
  std::optional<Nanos> least;
  for (const Phrase& phrase : phrases_) {
    if (phrase.timed()) continue;
    Nanos pause = phrase.every * kMinute;
    if (!least || pause < *least) least = pause;
  }
  return least;
}

}  // namespace kestrum
