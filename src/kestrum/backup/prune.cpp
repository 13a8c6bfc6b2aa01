#include "kestrum/backup/prune.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "kestrum/access/find_shelf.h"
#include "kestrum/access/known_damage.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/access/shelf_lease.h"
#include "kestrum/backup/continuation.h"
#include "kestrum/backup/recovery.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/job_lock.h"
#include "kestrum/machine/schedule_book.h"

namespace kestrum {
namespace {

std::vector<KeepFacts> facts_of(const Shelf& shelf, const std::vector<KnownDamage>& damage) {
  std::vector<KeepFacts> facts;
  for (const ShelfSet& set : shelf.sets()) {
    KeepFacts fact;
    fact.id = set.id;
    fact.sealed = set.sealed();
    fact.unreadable = set.unreadable && !knows_unreadable(damage, set);
    if (set.sealed()) {
      const Seal& seal = set.seal;
      fact.kind = seal.kind;
      fact.based_on = seal.based_on;
      fact.taken = seal.started;
      fact.verified = seal.verified != "no";
      fact.suspect = set.suspect();
      fact.stored = seal.totals.stored;
      fact.damaged = std::any_of(damage.begin(), damage.end(),
                                 [&](const KnownDamage& known) { return known.set == set.id; });
    } else if (set.id.link > 0) {
      fact.kind = SetKind::kIncremental;
    }
    facts.push_back(fact);
  }
  return facts;
}

class Pruning {
 public:
  Pruning(OpenShelf& open, const Job& job, Index& index, const PruneOptions& options,
          Observer& observer)
      : open_(open), job_(job), index_(index), options_(options), observer_(observer) {
    if (options.clock_is_right && !options.rehearse && !open.shelf.sets().empty()) {
      open.state->update_record(
          [&](ShelfRecord& record) { record.clock_confirmed = open.shelf.sets().back().id; });
    }
    input_ = keep_input(open, &index, job, options.now, options.interval);
    // That the newest set is long ago, or in the future, was said to be right as well.
    if (options.clock_is_right) input_.clock_doubt.clear();
    input_.base_in_use = options.base_in_use;
    if (options.in_a_run) return;
    report_.unfinished = unfinished_bytes(open.shelf, removable_leftovers(open, index));
    auto begun = index.begun();
    if (begun && report_.unfinished > 0) input_.base_in_use = begun->based_on;
  }

  PruneReport run() {
    if (pruning_blocked(input_)) report_.blocked_by = explain_kept(input_);
    if (options_.damaged) {
      remove_damaged();
      finish();
      return std::move(report_);
    }
    Depth depth = Depth::kKeepPromises;
    go_as_deep_as(depth);
    std::uint64_t wished = wished_bytes();
    std::uint64_t wanted = options_.to_free.value_or(0);
    if (options_.break_promises && options_.mind_wishes) wanted = std::max(wanted, wished);
    if (report_.freed < std::max(wanted, wished)) remove_unfinished();
    while (report_.freed < wanted && options_.break_promises && depth != Depth::kBreakChains) {
      depth = static_cast<Depth>(static_cast<int>(depth) + 1);
      go_as_deep_as(depth, wanted);
    }
    report_.missing = wanted > report_.freed ? wanted - report_.freed : 0;
    finish();
    weigh_thinning();
    if (wished <= report_.freed) report_.unmet.clear();
    return std::move(report_);
  }

 private:
  // What stays, and why.
  void finish() {
    if (!options_.rehearse && !options_.in_a_run && !report_.removed.empty()) index_.sweep();
    input_.depth = Depth::kKeepPromises;
    for (const Verdict& verdict : decide_keep(input_)) {
      if (!verdict.goes || report_.may_not_remove) report_.stays.push_back(facts_in_words(verdict));
    }
    report_.kept_why = explain_kept(input_);
    if (!report_.removed.empty() || !report_.room) report_.room = open_.place->room();
  }

  // A damaged chain that a newer one has replaced, as a person asks for it: each from the last set
  // to the first.
  void remove_damaged() {
    std::map<SetId, std::string> promised;
    for (const Verdict& verdict : decide_keep(input_)) {
      bool by_promise = verdict.kept_by == KeptBy::kFor || verdict.kept_by == KeptBy::kThin ||
                        verdict.kept_by == KeptBy::kChains;
      if (by_promise) promised[verdict.id] = verdict.reason;
    }
    for (std::uint32_t chain : replaced_damaged_chains(input_)) {
      std::vector<SetId> ids;
      for (const KeepFacts& set : input_.sets) {
        if (set.id.chain == chain) ids.push_back(set.id);
      }
      std::sort(ids.rbegin(), ids.rend());
      for (SetId id : ids) {
        if (options_.stop && options_.stop()) throw Error(ErrorKind::kStopped, "stopped");
        if (options_.agreed && !options_.agreed->contains(id)) break;
        if (held_.contains(chain)) break;
        remove({id, true, KeptBy::kNothing, "its chain is damaged, and a newer one is whole"},
               promised.contains(id) ? promised[id] : "");
      }
    }
    if (!options_.rehearse) remember_damage(open_, {}, {});  // of what is gone nothing is known
  }

  PrunedSet facts_in_words(const Verdict& verdict) const {
    for (const KeepFacts& set : input_.sets) {
      if (set.id == verdict.id) return {set.id, verdict.reason, set.stored, set.taken, ""};
    }
    return {verdict.id, verdict.reason, 0, 0, ""};
  }

  // What at_most and leave_free wish for, counted from before anything went.
  std::uint64_t wished_bytes() {
    std::uint64_t on_shelf = report_.freed + report_.unfinished, wished = 0;
    for (const KeepFacts& set : input_.sets) on_shelf += set.stored;
    if (job_.at_most && on_shelf > *job_.at_most + report_.freed) {
      report_.unmet.push_back(
          {fmt::format("the shelf holds {}, more than the {} of at_most",
                       format_size(on_shelf - report_.freed), format_size(*job_.at_most)),
           true});
    }
    if (job_.at_most && on_shelf > *job_.at_most) wished = on_shelf - *job_.at_most;
    auto known = report_.room = open_.place->room();
    if (!known) {
      if (job_.leave_free && *job_.leave_free > 0) {
        report_.unmet.push_back(
            {"whether leave_free is met nobody can say: the server does not "
             "tell how much is free"});
      }
      return wished;
    }
    Room room = *known;
    std::uint64_t free_before =
        options_.rehearse ? room.free : room.free - std::min(room.free, report_.freed);
    std::uint64_t free_wish = job_.leave_free.value_or(room.total / 100 * job_.leave_free_percent);
    if (free_wish > free_before + report_.freed) {
      report_.unmet.push_back(
          {fmt::format("{} are free on the disk, less than the {} of leave_free",
                       format_size(free_before + report_.freed), format_size(free_wish))});
    }
    if (free_wish > free_before) wished = std::max(wished, free_wish - free_before);
    return wished;
  }

  // What stays for the sake of thinning alone.
  void weigh_thinning() {
    if (input_.policy.thin.empty()) return;
    KeepInput without = input_;
    without.depth = Depth::kBreakThin;
    for (const Verdict& verdict : decide_keep(without)) {
      if (verdict.goes) report_.for_thinning += facts_in_words(verdict).bytes;
    }
  }

  // Removes what may go at this depth, the oldest chain first, in each chain from the last set to
  // the first; beyond the promises no more than is wanted.
  void go_as_deep_as(Depth depth, std::optional<std::uint64_t> wanted = std::nullopt) {
    input_.depth = Depth::kKeepPromises;
    std::map<SetId, std::string> promised;
    if (depth != Depth::kKeepPromises) {
      for (const Verdict& verdict : decide_keep(input_)) {
        if (!verdict.goes) promised[verdict.id] = verdict.reason;
      }
    }
    input_.depth = depth;
    std::vector<Verdict> going;
    for (const Verdict& verdict : decide_keep(input_)) {
      if (verdict.goes) going.push_back(verdict);
    }
    std::sort(going.begin(), going.end(), [](const Verdict& a, const Verdict& b) {
      return a.id.chain != b.id.chain ? a.id.chain < b.id.chain : b.id < a.id;
    });
    for (const Verdict& verdict : going) {
      if (wanted && report_.freed >= *wanted) return;
      if (options_.stop && options_.stop()) throw Error(ErrorKind::kStopped, "stopped");
      // What leans on it is being read, and reads it too.
      if (held_.contains(verdict.id.chain)) continue;
      remove(verdict, promised.contains(verdict.id) ? promised[verdict.id] : "");
    }
  }

  // Nothing but copying is lost with it: it goes before any set does.
  void remove_unfinished() {
    if (report_.unfinished == 0 || !may_remove()) return;
    if (!options_.rehearse) {
      for (const std::string& folder : removable_leftovers(open_, index_)) {
        open_.shelf.discard(folder);
      }
      index_.drop_begun();
    }
    PrunedSet set;
    set.unfinished = true;
    set.reason = "a run that did not finish; what it had copied is copied again";
    set.bytes = report_.unfinished;
    report_.freed += set.bytes;
    report_.unfinished = 0;
    report_.removed.insert(report_.removed.begin(), std::move(set));
  }

  // Asked only once something is to go.
  bool may_remove() {
    if (options_.rehearse || report_.may_not_remove) return !report_.may_not_remove;
    if (open_.place->may_remove()) return true;
    report_.may_not_remove = true;
    report_.blocked_by = printable(open_.path) + kMayNotRemove +
                         ", so that what no promise holds stays; whoever looks after the server "
                         "can remove it";
    return false;
  }

  void remove(const Verdict& verdict, const std::string& broke) {
    if (!may_remove()) return;
    const ShelfSet* there = open_.shelf.find(verdict.id);
    auto away = there != nullptr && there->sealed() ? open_.away_disk(there->seal) : std::nullopt;
    if (away) {
      held_.insert(verdict.id.chain);
      observer_.note(fmt::format("{} could go, but some of it lies on {}, which is not plugged in",
                                 verdict.id.to_string(), printable(*away)));
      return;
    }
    PrunedSet set = facts_in_words(verdict);
    set.broke = broke;
    if (!options_.rehearse) {
      observer_.progress(
          {"removing " + verdict.id.to_string(), report_.removed.size(), 0, report_.freed, 0, ""});
      bool removed = open_.shelf.remove(verdict.id, [&] {
        if (!options_.in_a_run) index_.forget({verdict.id});
      });
      if (!removed) {
        held_.insert(verdict.id.chain);
        observer_.note(verdict.id.to_string() +
                       " could go, but it is being read: it stays until the next pruning");
        return;
      }
      observer_.log(fmt::format("removed {}: {}", verdict.id.to_string(), verdict.reason));
    }
    std::erase_if(input_.sets, [&](const KeepFacts& fact) { return fact.id == verdict.id; });
    report_.freed += set.bytes;
    report_.removed.push_back(std::move(set));
  }

  OpenShelf& open_;
  const Job& job_;
  Index& index_;
  const PruneOptions& options_;
  Observer& observer_;
  KeepInput input_;
  std::set<std::uint32_t> held_;  // chains that are being read, or lie on disks that are away
  PruneReport report_;
};

}  // namespace

std::string PrunedSet::lost_in_words() const {
  return fmt::format("{} of {}: {}", id.to_string(), format_local(taken), broke);
}

std::vector<SetId> PruneReport::removed_ids() const {
  std::vector<SetId> ids;
  for (const PrunedSet& set : removed) {
    if (!set.unfinished) ids.push_back(set.id);
  }
  return ids;
}

KeepInput keep_input(const OpenShelf& open, Index* index, const Job& job, Nanos now,
                     Nanos interval) {
  KeepInput input;
  input.sets = facts_of(open.shelf, open.state->record.damage);
  input.policy = job.keep;
  input.now = now;
  input.set_back = open.shelf.set_back().value_or("");
  if (const ShelfSet* newest = open.shelf.newest(); newest != nullptr && newest->seal.lacking) {
    bool held = index != nullptr && index_holds(*index, *newest);
    auto known = held ? index->find_set(newest->id)->lacking : std::nullopt;
    input.lacking_unknown = !known;
    for (const Lacking& lack : known.value_or(std::vector<Lacking>{})) {
      input.only_here.insert(lack.set.chain);
    }
  }
  bool clock_is_right = !open.shelf.label().simulated && clock_is_synchronised();
  input.clock_doubt =
      doubt_of_clock(input.sets, now, interval, open.state->record.clock_confirmed, clock_is_right);
  if (!input.clock_doubt.empty()) {
    input.clock_doubt +=
        "; if the times are right: kestrum prune " + job.name + " --clock-is-right";
  }
  return input;
}

PruneReport prune_shelf(OpenShelf& open, const Job& job, Index& index, const PruneOptions& options,
                        Observer& observer) {
  return Pruning(open, job, index, options, observer).run();
}

PruneReport prune_job(const MachineState& machine, const Job& job,
                      const std::optional<std::string>& on_place, const PruneOptions& given,
                      const Clock& clock, Observer& observer) {
  JobLock lock(machine, job.name, "pruning");
  OpenShelf open = find_shelf_to_write(machine, job, on_place);
  check_clock(open.shelf.label(), clock);
  Index index(open.state->index_path());
  PruneOptions options = given;
  options.now = clock.now();
  options.interval = usual_interval(machine, job, options.now);
  ShelfLease lease;
  if (!options.rehearse) {
    lease.take(machine, open, options.stop, observer);
    recover_shelf(open, index);
  }
  return prune_shelf(open, job, index, options, observer);
}

Nanos usual_interval(const MachineState& machine, const Job& job, Nanos now) {
  Timetable times = timetable_of(job, machine, Zone::local());
  auto first = times.next_after(now);
  auto second = first ? times.next_after(*first) : std::nullopt;
  return second ? *second - *first : 0;
}

}  // namespace kestrum
