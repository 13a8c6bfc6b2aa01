// How much of a large file that changed is new, by a look at some of it.
#pragma once

#include <cstdint>
#include <functional>

#include "kestrum/machine/index.h"
#include "kestrum/plan/run_plan.h"

namespace kestrum {

// Bytes, of `size`, that a set of this plan would store of an open file that was `old` at its base;
// `size` where its stretches are not known. Reads up to kLookedAt bytes; `check_stop` may throw.
inline constexpr std::uint64_t kLookedAt = 48 << 20;
std::uint64_t new_bytes(int fd, std::uint64_t size, const IndexEntry& old, const RunPlan& plan,
                        Index& index, const std::function<void()>& check_stop);

}  // namespace kestrum
