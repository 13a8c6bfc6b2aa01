#include "kestrum/plan/run_plan.h"

#include <sys/stat.h>

#include <algorithm>

#include "kestrum/access/known_damage.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/pattern.h"

namespace kestrum {
namespace {

bool holds(const std::vector<std::string>& folders, const std::string& folder) {
  return std::find(folders.begin(), folders.end(), folder) != folders.end();
}

// The folders that some restore point knows as the job's. Where the newest set was made without
// knowing the others, theirs count as well.
std::vector<std::string> roots_before(const std::vector<IndexedSet>& sets) {
  std::vector<std::string> roots;
  for (auto set = sets.rbegin(); set != sets.rend(); ++set) {
    for (std::string& root : root_paths(*set)) roots.push_back(std::move(root));
    if (set->lacking) break;
  }
  return in_path_order(std::move(roots));
}

Roots expand_roots(const Job& job, const std::vector<std::string>& before,
                   const std::vector<std::string>& released) {
  Roots roots;
  std::vector<std::string> found, away;
  for (const auto& pattern : job.folders) {
    std::vector<std::string> matches = expand_pattern(pattern);
    bool wildcard = has_wildcard(pattern), had_matches = false;
    PatternSet matcher({wildcard ? pattern : "/none"});
    for (const auto& old : before) {
      bool matched =
          wildcard ? matcher.match(std::string_view(old).substr(1)).has_value() : old == matches[0];
      had_matches |= matched;
      if (matched && !is_named(old)) away.push_back(old);
    }
    for (const auto& match : matches) {
      if (wildcard && had_matches && !is_within_one(match, before)) roots.fresh.push_back(match);
    }
    found.insert(found.end(), matches.begin(), matches.end());
  }
  roots.lost.released = released;
  for (const auto& folder : in_path_order(std::move(found))) {
    bool there = is_named(folder);
    if (!there && holds(released, folder)) continue;
    roots.present.push_back(folder);
    roots.known.push_back({folder, !there});
  }
  for (const auto& folder : in_path_order(std::move(away))) {
    if (holds(released, folder) || holds(roots.present, folder)) continue;
    roots.lost.absent.push_back(folder);
    roots.known.push_back({folder, true});
  }
  std::sort(roots.known.begin(), roots.known.end(), [](const KnownRoot& a, const KnownRoot& b) {
    return compare_paths(a.path, b.path) < 0;
  });
  return roots;
}

// A folder that was there and cannot be read now: a full set made without it would start a chain
// that does not hold it.
std::optional<std::string> missing_root(const Roots& roots, Index& index, SetId newest) {
  for (const auto& root : roots.lost.absent) return root + " is not there now";
  for (const auto& root : roots.present) {
    if (!index.find(newest, root.substr(1))) continue;
    struct stat st {};
    if (!look_named(root, st)) return root + " is not there now";
    if (holds(roots.lost.released, root) || is_mounted_on(root)) continue;
    unsigned disk = components_of(root);
    if (index.knows_on_disk(root.substr(1), newest, disk, disk)) {
      return root + " was a mounted disk and is not now";
    }
  }
  return std::nullopt;
}

// What the new set has to hold, or to name as lacking.
OwedContent owed_content(const RunPlan& plan, const PlanInput& input,
                         const std::vector<IndexedSet>& sets, const IndexedSet& newest) {
  OwedContent owed;
  auto owe = [&](const IndexedSet& set) {
    if (!set.lacking || !owed.lacking) return owed.lacking.reset();
    owed.lacking->insert(owed.lacking->end(), set.lacking->begin(), set.lacking->end());
  };
  owe(newest);
  if (plan.next.based_on && *plan.next.based_on != newest.set) {
    for (const IndexedSet& set : sets) {
      if (set.set == *plan.next.based_on) owe(set);
    }
    owed.compared.push_back({newest.set, plan.next.based_on, false});
  } else if (!plan.next.based_on) {
    owed.compared.push_back({newest.set, std::nullopt, true});
  }
  if (!input.index_current) owed.lacking.reset();
  if (owed.lacking || !input.index_complete) return owed;
  // Sets were made blind; by now all that was before them is known. What one of them knew reached
  // only those that lean on it: wherever the next one does not, it is compared.
  auto from = sets.end();
  while (from != sets.begin() && !std::prev(from)->lacking) --from;
  if (from != sets.begin()) --from;
  owed.lacking.emplace();
  if (from != sets.end() && from->lacking) owed.lacking = from->lacking;
  for (; from != sets.end() && from->set < newest.set; ++from) {
    auto next = std::next(from);
    bool goes_on = next != sets.end() && next->based_on == from->set;
    if (!goes_on) owed.compared.push_back({from->set, std::nullopt, false});
  }
  return owed;
}

}  // namespace

PlanInput plan_input(const OpenShelf& open, Index& index) {
  const ShelfRecord& record = open.state->record;
  PlanInput input;
  input.sets = open.shelf.facts();
  auto begun = index.begun();
  input.used = open.shelf.used_numbers(begun ? begun->folder : "");
  input.highest_chain = record.newest.highest_chain;
  input.must_be_full =
      record.full_because.empty() ? why_none_can_follow(open) : std::optional(record.full_because);
  for (const IndexedSet& known : index.sets()) {
    const ShelfSet* there = open.shelf.find(known.set);
    bool same = there != nullptr && (!there->sealed() || there->seal_digest == known.seal_digest);
    if (same) input.last_known = known.set;
  }
  const ShelfSet* newest = open.shelf.newest();
  input.index_current = newest == nullptr || index_holds(index, *newest);
  for (const ShelfSet& set : open.shelf.sets()) {
    if (set.sealed() && set.seal.suspect) input.newest_suspect = set.id;
    input.index_complete &= !set.sealed() || index_holds(index, set);
  }
  for (const ReleasedFolder& folder : record.released) input.released.push_back(folder.path);
  input.damaged = damaged_content(open);
  input.known_damage = record.damage;
  return input;
}

RunPlan plan_run(const Job& job, Index& index, PlanInput input) {
  RunPlan plan;
  plan.stretches_above = job.stretches_above;
  plan.damaged = std::move(input.damaged);
  plan.known_damage = std::move(input.known_damage);
  plan.noise_since = input.newest_suspect;
  const std::vector<IndexedSet> sets = index.sets();
  const IndexedSet* newest = nullptr;
  for (const IndexedSet& set : sets) {
    if (!input.last_known || !(*input.last_known < set.set)) newest = &set;
  }
  plan.roots = expand_roots(job, roots_before(sets), input.released);
  bool comparable = newest != nullptr && (input.sets.empty() || input.last_known);
  NextSetInput next;
  next.sets = input.sets;
  next.used = std::move(input.used);
  next.highest_chain = input.highest_chain;
  next.follows_full = job.follows_full;
  next.new_full = job.new_full;
  next.wanted = input.wanted;
  next.must_be_full = input.must_be_full;
  next.now = input.now;
  if (comparable) next.rather_not_full = missing_root(plan.roots, index, newest->set);
  if (input.rather_not_full) next.rather_not_full = input.rather_not_full;
  plan.next = next_set(next);
  if (plan.next.based_on) {
    plan.compared_with = plan.next.based_on;
    plan.ancestors = ancestors_of(*plan.next.based_on, sets);
  } else if (comparable) {
    plan.compared_with = newest->set;
  }
  plan.blind = !plan.compared_with && !input.sets.empty();
  if (comparable) {
    plan.owed = owed_content(plan, input, sets, *newest);
  } else if (plan.blind) {
    plan.owed.lacking.reset();
  }
  return plan;
}

bool RunPlan::is_lost(Index& index, const IndexEntry& old) const {
  if (damaged.empty() || old.line.entry.type != EntryType::kFile) return false;
  auto location = index.location_of(old.version, ancestors);
  return location && damaged.reached_by(*location, old.line.entry.size).has_value();
}

}  // namespace kestrum
