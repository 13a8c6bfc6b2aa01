#include "kestrum/inspect/stored_sets.h"

#include <algorithm>
#include <map>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/machine/action_log.h"
#include "kestrum/machine/index.h"

namespace kestrum {
namespace {

void add_remembered(const KnownShelf& known, std::vector<StoredSet>& sets) {
  if (!known.state || !path_exists(known.state->index_path())) return;
  std::string shelf = known.place + "/" + known.state->record.folder;
  for (const IndexedSet& set : Index(known.state->index_path()).sets()) {
    sets.push_back(
        {set.set, set.kind, known.disk, shelf, set.started, 0, 0, true, !set.suspect_why.empty()});
  }
}

// Sets that went, by the job's own name for them; on which disk, is not told where it has several.
std::map<SetId, Nanos> removed_by_hand(const MachineState& machine, const std::string& job) {
  std::map<SetId, Nanos> removed;
  for (const Action& action : actions_of(machine, job)) {
    if (action.what != "prune") continue;
    for (const std::string& word : split(action.detail, ',')) {
      if (auto id = SetId::parse(trimmed(word))) removed[*id] = action.when;
    }
  }
  return removed;
}

}  // namespace

std::vector<StoredSet> sets_on(const OpenShelf& open, const std::string& disk) {
  std::vector<StoredSet> sets;
  std::map<SetId, bool> restorable;
  for (const SetFacts& fact : open.shelf.facts()) restorable[fact.id] = fact.restorable;
  for (const ShelfSet& set : open.shelf.sets()) {
    if (!set.sealed()) continue;  // when it was made is not known
    sets.push_back({set.id, set.seal.kind, disk, open.path, set.seal.started, 0,
                    set.seal.totals.stored, restorable[set.id], set.suspect()});
  }
  return sets;
}

std::vector<StoredSet> sets_on(const std::vector<KnownShelf>& shelves) {
  std::vector<StoredSet> all;
  for (const KnownShelf& known : shelves) {
    if (!known.open) {
      add_remembered(known, all);
      continue;
    }
    std::vector<StoredSet> sets = sets_on(*known.open, known.disk);
    all.insert(all.end(), sets.begin(), sets.end());
  }
  return all;
}

void add_recorded(const MachineState& machine, const std::string& job,
                  const std::vector<PastRun>& runs, std::vector<StoredSet>& sets) {
  std::map<std::pair<std::string, SetId>, std::size_t> known;
  for (std::size_t i = 0; i < sets.size(); ++i) known[{sets[i].shelf, sets[i].set}] = i;
  std::map<SetId, Nanos> by_hand = removed_by_hand(machine, job);
  for (const PastRun& run : runs) {
    for (SetId pruned : run.pruned) {
      auto set = known.find({run.shelf, pruned});
      if (set != known.end() && sets[set->second].gone != 0) sets[set->second].gone = run.started;
    }
    if (!run.set || !run.kind) continue;
    auto [set, fresh] = known.try_emplace({run.shelf, *run.set}, sets.size());
    if (fresh) {
      // It went: when, a later run or somebody may tell; otherwise it counts from the first.
      auto removed = by_hand.find(*run.set);
      bool told = removed != by_hand.end() && removed->second >= run.started;
      sets.push_back({*run.set, *run.kind, "", run.shelf, run.started,
                      told ? removed->second : run.started, run.stored, false, false});
    } else if (sets[set->second].stored == 0) {
      sets[set->second].stored = run.stored;
    }
  }
  std::stable_sort(sets.begin(), sets.end(),
                   [](const StoredSet& a, const StoredSet& b) { return a.taken < b.taken; });
}

}  // namespace kestrum
