// How a job's sets grow, from what its past runs saw and stored. Pure decisions: values in, values
// out.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "kestrum/chain/set_id.h"

namespace kestrum {

// What is known of a run that made a set. Sizes in bytes.
struct PastSet {
  Nanos taken = 0;
  SetKind kind = SetKind::kFull;
  unsigned link = 0;         // of its id: how many sets a differential one stands for
  std::uint64_t seen = 0;    // of all files
  std::uint64_t copied = 0;  // of those that were copied
  std::uint64_t stored = 0;
};

// A size with what it may be off by.
struct Spread {
  double value = 0;  // bytes
  double error = 0;  // bytes to either side; about two standard errors
};

struct Trend {
  bool dependent_known = false;
  Spread dependent;             // that a set takes which follows another, for each link
  double dependent_growth = 0;  // bytes more with each run, where they plainly grow
  bool growth_known = false;
  Spread seen_growth;  // of all files, bytes a day
  // Bytes that full sets grow by for each byte that the files do; nothing if no two full sets of
  // late tell.
  std::optional<double> growth_ratio;
  double new_ratio = 1;   // bytes stored for each byte copied, of late
  double full_ratio = 1;  // bytes stored for each byte seen, of the last full set
};

// `past` in order, the oldest first. Only the newest few dozen count, and of those only what came
// after the last plain change of level: a desk where films are cut since Tuesday is not what it
// was.
Trend trend_of(const std::vector<PastSet>& past);

}  // namespace kestrum
