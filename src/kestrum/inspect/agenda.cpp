#include "kestrum/inspect/agenda.h"

#include <algorithm>

#include "kestrum/base/file.h"
#include "kestrum/machine/index.h"

namespace kestrum {
namespace {

// The sets of the job's shelf that was seen last, by this machine's index.
NextSetInput chain_of(const MachineState& machine, const Job& job) {
  NextSetInput input;
  input.follows_full = job.follows_full;
  input.new_full = job.new_full;
  Nanos seen = -1;
  for (const ShelfState& state : machine.shelves(job.name)) {
    if (state.record.last_seen <= seen || !path_exists(state.index_path())) continue;
    seen = state.record.last_seen;
    input.highest_chain = state.record.newest.highest_chain;
    input.sets.clear();
    for (const IndexedSet& set : Index(state.index_path()).sets()) {
      input.sets.push_back({set.set, set.kind, set.based_on, set.started, true});
    }
  }
  return input;
}

}  // namespace

std::vector<AgendaEntry> agenda_of(const MachineState& machine, const Job& job,
                                   const Scheduler& scheduler, const AgendaSpan& span) {
  Nanos now = span.now;
  std::vector<AgendaEntry> entries;
  ScheduleState state = scheduler.book().load(job.name);
  bool paused = state.paused && (state.paused_until == 0 || now < state.paused_until);
  if (paused && state.paused_until == 0) return entries;
  NextSetInput chain = chain_of(machine, job);
  auto add = [&](Nanos at, bool made_up) {
    chain.now = at;
    NextSet next = next_set(chain);
    chain.sets.push_back({next.id, next.kind, next.based_on, at, true});
    // Only the newest chain decides what comes next.
    std::erase_if(chain.sets,
                  [&](const SetFacts& set) { return set.id.chain + 1 < next.id.chain; });
    entries.push_back({job.name, at, next.kind, made_up});
  };
  Timetable times = scheduler.timetable(job);
  Nanos from = paused ? state.paused_until : now;
  if (!paused && state.pending) add(now, true);
  for (auto at = times.next_after(from); at && *at <= span.until && entries.size() < span.most;
       at = times.next_after(*at)) {
    add(*at, false);
  }
  return entries;
}

std::vector<DiskEntry> disks_due(const MachineState& machine, const Job& job,
                                 const AgendaSpan& span) {
  std::vector<DiskEntry> disks;
  if (job.rotation == 0) return disks;
  for (const ShelfState& state : machine.shelves(job.name)) {
    const ShelfRecord& record = state.record;
    bool is_one = std::find(job.places.begin(), job.places.end(), record.place) != job.places.end();
    Nanos by = record.last_seen + job.rotation;
    if (!is_one || record.last_seen == 0 || by > span.until) continue;
    disks.push_back({job.name, by, record.place, record.last_seen});
  }
  std::stable_sort(disks.begin(), disks.end(),
                   [](const DiskEntry& a, const DiskEntry& b) { return a.by < b.by; });
  return disks;
}

std::vector<CheckEntry> checks_of(const Job& job, const AgendaSpan& span) {
  std::vector<CheckEntry> entries;
  for (CheckKind kind : kCheckKinds) {
    Timetable times(phrases_of(job, kind), Zone::local());
    std::size_t count = 0;
    for (auto at = times.next_after(span.now); at && *at <= span.until && ++count <= span.most;
         at = times.next_after(*at)) {
      entries.push_back({job.name, *at, kind});
    }
  }
  return entries;
}

}  // namespace kestrum
