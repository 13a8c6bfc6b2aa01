// What a plan comes to: the runs to come, each with the kind that next_set gives it and the pruning
// that decide_keep allows after it. Pure decisions: values in, values out.
#pragma once

#include <optional>
#include <vector>

#include "kestrum/chain/next_kind.h"
#include "kestrum/chain/retention.h"

namespace kestrum {

struct OutlookInput {
  KeepInput keep;      // the sets that are there, with their sizes; `now` is not used
  bool prunes = true;  // false: nothing goes by itself
  std::uint32_t highest_chain = 0;
  SetKind follows_full = SetKind::kIncremental;
  NewFullRule new_full;
  std::optional<NextSet> next;  // what the first of the runs makes, where that is decided already
  std::vector<Nanos> runs;      // when they start, in order
  // Bytes that sets take. A differential set grows with its distance from the full one.
  std::uint64_t next_bytes = 0, full_bytes = 0, dependent_bytes = 0;
  double full_growth = 0;                   // bytes a day from the first run on
  double dependent_growth = 0;              // bytes with each run
  std::optional<std::uint64_t> free_bytes;  // on the disk now
  std::optional<std::uint64_t> at_most;     // wish: bytes on the shelf
};

struct Outlook {
  std::uint64_t peak = 0;       // bytes beyond what lies there now, at the worst moment of the plan
  std::uint64_t most_held = 0;  // bytes of all sets at that moment
  Nanos peak_at = 0;            // the run that brings it
  unsigned fulls_at_once = 0;   // full sets that lie there at once, one being written counted
  std::vector<SetId> next_prunes;            // what goes after the first run
  std::optional<std::size_t> runs_that_fit;  // before one finds too little room; nothing: all do
  // Before one leaves more on the shelf than is wished for, and no promise lets go of it.
  std::optional<std::size_t> runs_within_wish;
  unsigned dependents = 0;             // of the longest chain that begins and ends in the plan
  std::optional<Nanos> full_interval;  // from one new full set to the next
  std::vector<std::uint64_t> held;     // bytes of all sets after each run, before it prunes
};

// A run may start a little late, so that what it looks at is younger than planned by as much: the
// peak allows for it.
Outlook look_ahead(const OutlookInput& input);

}  // namespace kestrum
