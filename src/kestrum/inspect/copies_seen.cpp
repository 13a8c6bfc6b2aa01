#include "kestrum/inspect/copies_seen.h"

#include <algorithm>

#include "kestrum/base/units.h"
#include "kestrum/system/check_schedule.h"

namespace kestrum {
namespace {

constexpr int kTimesMissed = 3;
constexpr Nanos kBehindAtLeast = 3 * kDay;

}  // namespace

std::string CopySeen::in_words(Nanos now) const {
  if (when == 0) return "no copy that this PC knows of";
  std::string text = newest ? "up to " + newest->to_string() : std::string("nothing in it");
  text += ", " + format_ago(when, now);
  if (behind() && shelf_newest) text += "; the shelf has " + shelf_newest->to_string();
  if (problems > 0) text += "; NOT ALL could be copied";
  return text;
}

std::vector<CopySeen> copies_seen(const Job& job, const std::vector<ShelfState>& shelves) {
  std::vector<CopySeen> copies;
  for (const std::string& place : job.copies.to) {
    CopySeen seen;
    seen.place = place;
    for (const ShelfState& state : shelves) {
      for (const CopyRecord& known : state.record.copies) {
        if (known.place != place || known.when < seen.when) continue;
        seen = {place, known.when, known.newest, state.record.newest.set, known.problems};
      }
    }
    copies.push_back(std::move(seen));
  }
  return copies;
}

bool is_overdue(const Job& job, const CopySeen& copy, Nanos now) {
  Timetable times(phrases_of(job, CheckKind::kCopy), Zone::local());
  if (!times.timed() || copy.when == 0 || !copy.behind()) return false;
  Nanos first = times.next_after(copy.when).value_or(0);
  Nanos second = first == 0 ? 0 : times.next_after(first).value_or(0);
  Nanos usual = std::max<Nanos>(0, second - first);
  return first != 0 && now > first + std::max(kBehindAtLeast, kTimesMissed * usual);
}

}  // namespace kestrum
