// Which sets must stay and which may go. Pure decisions: values in, values out.
#pragma once

#include <map>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "kestrum/chain/set_id.h"

namespace kestrum {

// "one a week for 8 weeks": of each of the last 8 calendar weeks one restore point stays.
struct ThinRule {
  enum class Unit { kDaily, kWeekly, kMonthly, kYearly };
  Unit unit = Unit::kWeekly;
  unsigned count = 0;

  // Nothing if the phrase is not one.
  static std::optional<ThinRule> parse(std::string_view phrase);
  std::string text() const;
};

struct KeepPolicy {
  Nanos keep_for = 14 * kDay;  // promise: every restore point younger than this stays reachable
  unsigned chains = 1;         // promise: so many complete chains stay whole
  std::vector<ThinRule> thin;  // promise
  std::string hold;            // why nothing goes until somebody empties it; empty: nothing holds
};

// What the decision needs to know of a set.
struct KeepFacts {
  SetId id;
  SetKind kind = SetKind::kFull;
  std::optional<SetId> based_on;
  Nanos taken = 0;     // by its own seal; meaningless if it is not sealed
  bool sealed = true;  // false: damaged; its bytes are nobody's to remove
  // Not sealed, though a seal is there: what it is based on, and whether it vouches for others,
  // cannot be known. Nothing of the shelf goes until `verify` has recorded it as damage.
  bool unreadable = false;
  bool verified = true;  // its parts were read back when it was made
  bool damaged = false;  // sealed, but a file of it is known to be damaged
  bool suspect = false;
  std::uint64_t stored = 0;  // bytes
};

// Promises in the order in which they may be broken.
enum class Depth { kKeepPromises, kBreakThin, kBreakFor, kBreakChains };

struct KeepInput {
  std::vector<KeepFacts> sets;  // any order
  KeepPolicy policy;
  Depth depth = Depth::kKeepPromises;
  Nanos now = 0;
  // Why the clock cannot be trusted with removing by age; empty if it can.
  std::string clock_doubt;
  // Why the shelf is known to be an older state of itself; empty if it is not.
  std::string set_back;
  std::optional<SetId> base_in_use;   // of a set that is being written
  std::set<std::uint32_t> only_here;  // chains that hold what the newest set lacks
  bool lacking_unknown = false;       // what the newest set lacks is not known
};

// What keeps a set; of several reasons the first in this order that was found.
enum class KeptBy {
  kNothing,
  kHeld,
  kDamage,
  kNewest,
  kChains,
  kOnlyHere,
  kUnreadable,
  kSuspect,
  kSetBack,
  kClock,
  kFor,
  kThin,
  kInUse,
  kBase
};

struct Verdict {
  SetId id;
  bool goes = false;
  KeptBy kept_by = KeptBy::kNothing;
  std::string reason;  // in words: "3 sets lean on it", "31 days old, and so is its whole chain"
};

// A verdict for each set, in order. Sets that go may be removed one by one from the last to the
// first without ever leaving one behind that lacks its base.
std::vector<Verdict> decide_keep(const KeepInput& input);

// Chains that hold damage and that a newer chain, whole and complete, has followed: a person may
// let them go. Not one that holds files which could not be read since, or that a set which is being
// written is based on; none where a suspect set, an unreadable seal, a hold or a shelf that was set
// back keeps everything. Ascending.
std::vector<std::uint32_t> replaced_damaged_chains(const KeepInput& input);

// Whether nothing goes at all, whatever the rules say: the job is held, a seal cannot be read, a
// set is suspect, the shelf was set back, or the clock is in doubt.
bool pruning_blocked(const KeepInput& input);

// When each sealed set was taken, for comparing ages. A set's time is its own, but: where it lies
// after `now`, it is that of the next set that does not, else now; where it lies before the
// corrected time of the set before it, that one. No wrong clock so makes another set look older.
std::map<SetId, Nanos> corrected_times(const std::vector<KeepFacts>& sets, Nanos now);

// What keeps the older chains, in words for somebody who is short of room:
// "for = 14 days" still needs chains 4 and 5. Never empty.
std::string explain_kept(const KeepInput& input);

// Why removing by age must wait: now is earlier than the newest set, or further from a set to the
// next, or from the newest to now, than ten intervals of the schedule and 60 days. Sets up to
// `confirmed` were looked at by somebody. With a clock that is known to be right, a gap alone is no
// reason: a PC may have been off for long. Empty if all is well.
std::string doubt_of_clock(const std::vector<KeepFacts>& sets, Nanos now, Nanos interval,
                           std::optional<SetId> confirmed, bool clock_is_right = false);

}  // namespace kestrum
