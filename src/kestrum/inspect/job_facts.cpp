#include "kestrum/inspect/job_facts.h"

#include <algorithm>
#include <map>

#include "kestrum/access/find_shelf.h"
#include "kestrum/access/own_index.h"
#include "kestrum/base/file.h"
#include "kestrum/inspect/job_outlook.h"
#include "kestrum/machine/schedule_book.h"

namespace kestrum {
namespace {

constexpr Nanos kLeastAhead = 60 * kDay, kMostAhead = 400 * kDay;

std::optional<RoomAhead> look_ahead_on(const MachineState& machine, const Job& job,
                                       const OpenShelf& open, const std::vector<PastRun>& runs,
                                       Nanos now) {
  const PastRun* last = nullptr;
  for (const PastRun& run : runs) {
    if (run.set && run.shelf == open.path) last = &run;
  }
  if (last == nullptr || !open.state) return std::nullopt;
  NextSetInput input;
  input.sets = open.shelf.facts();
  input.highest_chain = open.state->record.newest.highest_chain;
  input.follows_full = job.follows_full;
  input.new_full = job.new_full;
  input.now = now;
  PlannedRun planned;
  planned.next = next_set(input);
  for (const PastRun& run : runs) {
    bool alike = run.kind && (*run.kind == SetKind::kFull) == (planned.next.kind == SetKind::kFull);
    if (run.set && run.shelf == open.path && alike) last = &run;
  }
  ExpectedChanges changes;
  changes.bytes = {runs.back().seen > 0 ? runs.back().seen : last->seen, last->copied, 0};
  planned.bytes = planned.estimate.stored = last->stored;
  planned.changes = &changes;
  auto there = open.place->room();
  if (!there) return std::nullopt;
  planned.free_bytes = there->free;
  // From the next run on.
  planned.now = timetable_of(job, machine, Zone::local()).next_after(now).value_or(now);
  Nanos since = runs.front().started;
  planned.until =
      now + std::clamp<Nanos>(2 * std::max<Nanos>(0, now - since), kLeastAhead, kMostAhead);
  // Without an index nobody knows which chains the newest set still needs.
  if (!path_exists(open.state->index_path())) return std::nullopt;
  Index index(open.state->index_path());
  JobOutlook outlook = job_outlook(machine, job, &open, &index, planned);
  std::uint64_t held = 0;
  for (const ShelfSet& set : open.shelf.sets()) held += set.seal.totals.stored;
  auto free_after = [&](const OutlookAtRate& rate) {
    std::vector<std::int64_t> room;
    for (std::uint64_t then : rate.outlook.held) {
      room.push_back(static_cast<std::int64_t>(*planned.free_bytes + held - then));
    }
    return room;
  };
  return RoomAhead{outlook.runs,
                   free_after(outlook.middle),
                   free_after(outlook.fast),
                   free_after(outlook.slow),
                   outlook.middle.full_at,
                   outlook.fast.full_at,
                   outlook.slow.full_at,
                   outlook.from};
}

DiskFacts disk_facts(const MachineState& machine, const Job& job, const KnownShelf& known,
                     const std::vector<PastRun>& runs, Nanos now) {
  DiskFacts facts;
  facts.disk = known.disk.empty() ? base_name(known.place) : known.disk;
  facts.shelf = known.open ? known.open->path : known.place + "/" + known.state->record.folder;
  for (const PastRun& run : runs) {
    if (run.shelf != facts.shelf) continue;
    if (run.shelf_free) facts.room.push_back({run.started, *run.shelf_free});
    facts.stored = run.shelf_stored;
    facts.free = run.shelf_free;
  }
  if (!known.open) {
    facts.why_not = known.why_not ? known.why_not->message() : "not there";
    facts.last_seen = known.state->record.last_seen;
    return facts;
  }
  facts.attached = true;
  ShelfSummary summary = summary_of(*known.open);
  facts.stored = summary.stored_bytes;
  facts.free = summary.free_bytes;
  if (auto room = known.open->place->room()) {
    facts.capacity = room->total;
    facts.room.push_back({now, room->free});
  }
  facts.ahead = look_ahead_on(machine, job, *known.open, runs, now);
  return facts;
}

// Of the newest restore point that this PC's indexes know, on whichever disk.
void find_largest(const std::vector<KnownShelf>& shelves, JobFacts& facts) {
  const KnownShelf* best = nullptr;
  IndexedSet newest;
  auto index_path = [](const KnownShelf& shelf) {
    const auto& state = shelf.open ? shelf.open->state : shelf.state;
    return state && path_exists(state->index_path()) ? state->index_path() : std::string();
  };
  for (const KnownShelf& shelf : shelves) {
    if (index_path(shelf).empty()) continue;
    auto set = Index(index_path(shelf)).newest();
    if (!set || (best != nullptr && set->started <= newest.started)) continue;
    best = &shelf;
    newest = *set;
  }
  if (best == nullptr) return;
  Index index(index_path(*best));
  std::optional<IndexedSet> before;
  for (const IndexedSet& set : index.sets()) {
    if (set.set < newest.set) before = set;
  }
  std::optional<SetId> since;
  if (before) since = before->set;
  facts.largest = largest_paths(index, newest, since);
  facts.largest_at = newest.started;
  if (before) facts.largest_since = before->started;
}

}  // namespace

JobFacts job_facts(const Home& home, const std::string& name,
                   const std::optional<DueCaller>& caller, const Clock& clock) {
  JobFacts facts;
  facts.now = clock.now();
  MachineState machine(home);
  facts.runs = past_runs_of(RunRecords(machine, name));
  facts.status = job_status(home, name, caller, clock);
  std::vector<KnownShelf> shelves;
  try {
    Job job = JobStore(home).load(name);
    facts.title = job.title;
    facts.is_protected = job.encrypted;
    shelves = known_shelves(machine, job);
    for (const KnownShelf& known : shelves) {
      facts.disks.push_back(disk_facts(machine, job, known, facts.runs, facts.now));
    }
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::kUsage && error.kind() != ErrorKind::kPlace) throw;
    // The status says what is wrong with the job, or that it has no shelf yet.
  }
  facts.sets = sets_on(shelves);
  add_recorded(machine, name, facts.runs, facts.sets);
  find_largest(shelves, facts);
  return facts;
}

}  // namespace kestrum
