// What a run of a job would do: which folders, which set, compared with what. Shared by the run
// itself and by the forecast.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/machine/index.h"
#include "kestrum/plan/lacking.h"
#include "kestrum/plan/roots.h"
#include "kestrum/plan/tree_diff.h"

namespace kestrum {

// Bytes; larger files are stored whole: their ranges would be too many.
inline constexpr std::uint64_t kMostStretched = std::uint64_t{256} << 30;

struct RunPlan {
  Roots roots;
  NextSet next;
  std::optional<SetId> compared_with;  // whose state is the base; for a full set, the newest set
  // Sets are there, and what they hold is not known: nothing counts as new.
  bool blind = false;
  OwedContent owed;
  // What turned into noise is counted from this set on: the newest that was suspect, trusted or
  // not.
  std::optional<SetId> noise_since;
  std::vector<std::int64_t> ancestors;    // that may hold content; empty for a full set
  DamagedContent damaged;                 // of the ancestors: content that does not count as held
  std::vector<KnownDamage> known_damage;  // what that comes of, so that the set may mend it

  std::uint64_t stretches_above = 0;  // as the job says

  bool is_full() const { return next.kind == SetKind::kFull; }
  // Whether a file of this size is stored, or in a full set listed, in stretches.
  bool is_stretched(std::uint64_t size) const {
    return stretches_above > 0 && size > stretches_above && size <= kMostStretched;
  }
  // Whether the content of a path, as it was at the base, cannot be read back.
  bool is_lost(Index& index, const IndexEntry& old) const;
};

struct PlanInput {
  std::vector<SetFacts> sets;  // of the shelf
  std::vector<SetId> used;     // numbers that are not free, though no sealed set has them
  std::uint32_t highest_chain = 0;
  std::optional<SetKind> wanted;
  std::optional<std::string> must_be_full;
  std::optional<std::string> rather_not_full;  // beside what is away
  // The newest set that the index knows and that lies on the shelf, damaged perhaps; whether no set
  // there is newer, and whether it knows every one.
  std::optional<SetId> last_known;
  bool index_current = true, index_complete = true;
  std::optional<SetId> newest_suspect;  // trusted or not
  std::vector<std::string> released;    // as ShelfRecord says
  DamagedContent damaged;
  std::vector<KnownDamage> known_damage;
  Nanos now = 0;
};

// What the shelf and this PC's memory of it say; what is asked for is left to the caller.
PlanInput plan_input(const OpenShelf& open, Index& index);

RunPlan plan_run(const Job& job, Index& index, PlanInput input);

}  // namespace kestrum
