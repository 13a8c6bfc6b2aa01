#include "kestrum/inspect/shelf_calendar.h"

#include <algorithm>
#include <map>

#include "kestrum/machine/run_records.h"

namespace kestrum {
namespace {

constexpr int kLongestCalendar = 800;

}  // namespace

std::vector<CalendarDay> shelf_calendar(const MachineState& machine, const OpenShelf& open,
                                        const std::string& job, Nanos now) {
  Zone zone = Zone::local();
  std::map<LocalDay, CalendarDay> days;
  auto at = [&](Nanos moment) -> CalendarDay& { return days[zone.wall(moment).day]; };
  std::map<SetId, bool> restorable;
  for (const SetFacts& fact : open.shelf.facts()) restorable[fact.id] = fact.restorable;
  for (const ShelfSet& set : open.shelf.sets()) {
    if (!set.sealed()) continue;  // when it was made is not known
    at(set.seal.started)
        .sets.push_back({set.id, set.seal.kind, true, restorable[set.id], set.suspect()});
  }
  RunRecords records(machine, job);
  for (const auto& run : records.runs()) {
    auto record = records.load(run);
    if (!record || record_text(*record, "outcome") == "skipped") continue;
    Nanos started = record_time(*record, "started");
    auto id = SetId::parse(record_text(*record, "set"));
    auto kind = parse_kind(record_text(*record, "kind"));
    if (!id || !kind) {
      at(started).failed = true;
      continue;
    }
    std::string shelf;
    if (auto told = record->find("shelf"); told != record->end() && told->is_object()) {
      shelf = record_text(*told, "path");
    }
    if (shelf == open.path && open.shelf.find(*id) == nullptr) {
      at(started).sets.push_back({*id, *kind, false, false, false});
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

}  // namespace kestrum
