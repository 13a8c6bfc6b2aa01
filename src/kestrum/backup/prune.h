// Removing the sets that no promise holds.
#pragma once

#include <optional>
#include <set>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/observer.h"
#include "kestrum/chain/retention.h"
#include "kestrum/machine/index.h"

namespace kestrum {

struct PruneOptions {
  bool rehearse = false;                 // only say what would happen
  std::optional<std::uint64_t> to_free;  // bytes that are wanted
  bool break_promises = false;           // go deeper, until what is wanted and wished for is free
  bool mind_wishes = true;               // whether at_most and leave_free count as wanted, deeper
  // Only the chains that hold damage and were followed by a whole one; of those only the sets that
  // somebody has agreed to, if that is given.
  bool damaged = false;
  std::optional<std::set<SetId>> agreed;
  bool clock_is_right = false;       // the times of the sets are to be believed from now on
  std::optional<SetId> base_in_use;  // of a set that is being written
  // The index holds the journal of a set that is being written: the caller lets it forget, later,
  // what is removed, and what an interrupted run left is in use.
  bool in_a_run = false;
  Nanos now = 0;
  Nanos interval = 0;  // of the job's schedule, for judging the clock; 0: none
  StopRequest stop;
};

struct PrunedSet {
  SetId id;
  std::string reason;
  std::uint64_t bytes = 0;
  Nanos taken = 0;
  std::string broke;        // of a set that went all the same: why a promise held it
  bool unfinished = false;  // what an interrupted run left; `id` says nothing

  std::string name() const { return unfinished ? "unfinished" : id.to_string(); }

  // Of a restore point that was lost: "c3-1 of 2026-03-04 21:00: 3 days old; 14 days are promised".
  std::string lost_in_words() const;
};

struct UnmetWish {
  std::string text;      // in words
  bool at_most = false;  // of what the shelf holds, which is the job's alone, and not of the disk
};

struct PruneReport {
  std::vector<PrunedSet> removed, stays;
  std::uint64_t unfinished = 0;    // bytes of a set that was begun, which the next run goes on with
  std::uint64_t freed = 0;         // bytes
  std::uint64_t missing = 0;       // bytes that are wanted and could not be freed
  std::optional<Room> room;        // afterwards; while rehearsing, as it is
  std::string blocked_by;          // why nothing goes at all, whatever the rules say
  bool may_not_remove = false;     // ... though something would: this account may not
  std::string kept_why;            // which promise holds which chain, in words
  std::uint64_t for_thinning = 0;  // bytes of what stays that only thinning holds, chains included
  std::vector<UnmetWish> unmet;    // that what stays does not leave room for

  std::vector<SetId> removed_ids() const;
};

// What the decisions need to know of a shelf's sets.
// Without an index nobody knows what the newest set lacks, if it lacks something.
KeepInput keep_input(const OpenShelf& open, Index* index, const Job& job, Nanos now,
                     Nanos interval);

// Of a shelf whose job's lock is held. Throws Error if the disk fails; what was removed until then
// is gone in order, dependents first.
PruneReport prune_shelf(OpenShelf& open, const Job& job, Index& index, const PruneOptions& options,
                        Observer& observer);

// Takes the lock, finds the shelf (at `on_place` only, if given) and finishes what an interrupted
// removal left. The options' time and interval are filled in here. Six parameters: a place to look
// at is no option of pruning.
PruneReport prune_job(const MachineState& machine, const Job& job,
                      const std::optional<std::string>& on_place, const PruneOptions& options,
                      const Clock& clock, Observer& observer);

// The job's time between runs, for judging a clock; 0 if it has no schedule.
Nanos usual_interval(const MachineState& machine, const Job& job, Nanos now);

}  // namespace kestrum
