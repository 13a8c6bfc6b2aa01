// Work that waits for a place's answers, beside other work.
#pragma once

#include <future>
#include <utility>

#include "kestrum/place/place.h"

namespace kestrum {

// Where a place is far away the call is made at once, by a thread if one can be had; else by get(),
// and not at all without it. What it throws, get() does. The destructor waits for a call that was
// begun.
template <typename Call>
std::future<void> beside_if_far(Place& place, Call call) {
  auto policy = place.is_far() ? std::launch::async | std::launch::deferred : std::launch::deferred;
  return std::async(policy, std::move(call));
}

}  // namespace kestrum
