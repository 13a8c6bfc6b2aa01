// What random histories have in common: how long, from which seed, and what is told in the end.
#pragma once

#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <map>
#include <random>
#include <string>

#include "kestrum/base/clock.h"

namespace kestrum::test {

inline double from_environment(const char* name, double otherwise) {
  const char* text = std::getenv(name);
  return text == nullptr || *text == '\0' ? otherwise : std::atof(text);
}

inline std::uint64_t history_seed() {
  auto seed = static_cast<std::uint64_t>(from_environment("KESTRUM_SOAK_SEED", 0));
  return seed != 0 ? seed : std::random_device{}() % 1'000'000 + 1;
}

// By the steady clock.
inline Nanos history_end() {
  auto minutes = from_environment("KESTRUM_SOAK_MINUTES", 1);
  return steady_now() + static_cast<Nanos>(minutes * 60) * kSecond;
}

inline void tell_history(const std::map<std::string, std::uint64_t>& counts, std::uint64_t seed,
                         bool failed) {
  for (const auto& [name, count] : counts) {
    std::printf("%10llu %s\n", static_cast<unsigned long long>(count), name.c_str());
  }
  if (failed) {
    std::printf("again: KESTRUM_SOAK_SEED=%llu\n", static_cast<unsigned long long>(seed));
  }
}

}  // namespace kestrum::test
