#include "kestrum/plan/run_plan.h"

#include <sys/stat.h>

#include <algorithm>

#include "kestrum/access/known_damage.h"
#include "kestrum/base/file.h"
#include "kestrum/select/pattern.h"

namespace kestrum {
namespace {

Roots expand_roots(const Job& job, const std::optional<IndexedSet>& newest) {
  std::vector<std::string> before = newest ? newest->roots : std::vector<std::string>{};
  Roots roots;
  std::vector<std::string> found;
  for (const auto& pattern : job.folders) {
    std::vector<std::string> matches = expand_pattern(pattern);
    found.insert(found.end(), matches.begin(), matches.end());
    if (!has_wildcard(pattern)) continue;
    PatternSet matcher({pattern});
    bool had_matches = false;
    for (const auto& old : before) {
      if (!matcher.match(std::string_view(old).substr(1))) continue;
      had_matches = true;
      if (!path_exists(old)) roots.absent.push_back(old);
    }
    if (!had_matches) continue;  // the pattern is new itself
    for (const auto& match : matches) {
      bool known = std::any_of(before.begin(), before.end(),
                               [&](const std::string& old) { return is_within(match, old); });
      if (!known) roots.fresh.push_back(match);
    }
  }
  roots.present = fold_overlaps(std::move(found));
  return roots;
}

// A folder that was there and cannot be read now: a full set made without it would start a chain
// that does not hold it.
std::optional<std::string> missing_root(const Roots& roots, Index& index, SetId newest) {
  for (const auto& root : roots.absent) return root + " is not there now";
  for (const auto& root : roots.present) {
    auto known = index.find(newest, root.substr(1));
    if (!known) continue;
    struct stat st {
    }, above{};
    if (::stat(root.c_str(), &st) != 0) return root + " is not there now";
    bool mounted = ::stat(parent_of(root).c_str(), &above) == 0 && st.st_dev != above.st_dev;
    if (known->line.mount && !mounted) return root + " was a mounted disk and is not now";
  }
  return std::nullopt;
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
  input.damaged = damaged_content(open);
  input.known_damage = record.damage;
  return input;
}

RunPlan plan_run(const Job& job, Index& index, PlanInput input) {
  RunPlan plan;
  plan.damaged = std::move(input.damaged);
  plan.known_damage = std::move(input.known_damage);
  auto newest = index.newest();
  plan.roots = expand_roots(job, newest);
  bool comparable = newest && !input.must_be_full;
  NextSetInput next;
  next.sets = std::move(input.sets);
  next.used = std::move(input.used);
  next.highest_chain = input.highest_chain;
  next.follows_full = job.follows_full;
  next.new_full = job.new_full;
  next.wanted = input.wanted;
  next.must_be_full = std::move(input.must_be_full);
  next.now = input.now;
  if (comparable) next.rather_not_full = missing_root(plan.roots, index, newest->set);
  plan.next = next_set(next);
  if (plan.next.based_on) {
    plan.compared_with = plan.next.based_on;
    plan.ancestors = ancestors_of(*plan.next.based_on, index.sets());
  } else if (comparable) {
    plan.compared_with = newest->set;
  }
  return plan;
}

bool RunPlan::is_lost(Index& index, const IndexEntry& old) const {
  if (damaged.empty() || old.line.entry.type != EntryType::kFile) return false;
  auto location = index.location_of(old.version, ancestors);
  return location && damaged.reached_by(*location, old.line.entry.size);
}

}  // namespace kestrum
