#include "kestrum/inspect/shelf_calendar.h"

#include <algorithm>
#include <map>

namespace kestrum {
namespace {

constexpr int kLongestCalendar = 800;

}  // namespace

std::vector<CalendarDay> shelf_calendar(const std::vector<StoredSet>& sets,
                                        const std::vector<PastRun>& runs, Nanos now) {
  Zone zone = Zone::local();
  std::map<LocalDay, CalendarDay> days;
  auto at = [&](Nanos moment) -> CalendarDay& { return days[zone.wall(moment).day]; };
  for (const StoredSet& set : sets) {
    at(set.taken).sets.push_back({set.set, set.kind, set.gone == 0, set.restorable, set.suspect});
  }
  for (const PastRun& run : runs) {
    if (run.set && run.kind) continue;
    if (run.outcome == "skipped") {
      at(run.started).missed = true;
    } else {
      at(run.started).failed = true;
    }
  }
  std::vector<CalendarDay> calendar;
  if (days.empty()) return calendar;
  LocalDay today = zone.wall(now).day;
  LocalDay first = std::max(days.begin()->first, today - date::days(kLongestCalendar));
  LocalDay last = std::max(today, days.rbegin()->first);
  for (LocalDay day = first; day <= last; day += date::days(1)) {
    CalendarDay entry = days.contains(day) ? days[day] : CalendarDay{};
    entry.day = day;
    std::sort(entry.sets.begin(), entry.sets.end(),
              [](const CalendarSet& a, const CalendarSet& b) { return a.id < b.id; });
    calendar.push_back(std::move(entry));
    if (calendar.size() > 2 * kLongestCalendar) break;  // a set from a future that was none
  }
  return calendar;
}

std::vector<CalendarDay> shelf_calendar(const MachineState& machine, const OpenShelf& open,
                                        const std::string& job, Nanos now) {
  std::vector<StoredSet> sets = sets_on(open);
  std::vector<PastRun> runs = past_runs_of(RunRecords(machine, job));
  add_recorded(machine, job, runs, sets);
  std::erase_if(sets, [&](const StoredSet& set) { return set.shelf != open.path; });
  return shelf_calendar(sets, runs, now);
}

}  // namespace kestrum
