// How many of its calls a sweep of faults tries.
#pragma once

#include <cstdlib>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/chain/set_id.h"

namespace kestrum::test {

// Every so many-th call in turn. The tests take a sample, with sanitizers a smaller one;
// KESTRUM_FAULT_STRIDE=1, which `make sweep` sets, takes all of them.
inline int fault_stride(int usual) {
#if defined(__SANITIZE_THREAD__)
  usual *= 16;
#elif defined(__SANITIZE_ADDRESS__)
  usual *= 4;
#endif
  const char* given = std::getenv("KESTRUM_FAULT_STRIDE");
  return given == nullptr ? usual : std::atoi(given);
}

// The runs that are swept: the third set of a job, of each kind, on each kind of shelf.
struct SweptRun {
  const char* name;
  bool is_protected;
  std::optional<SetKind> kind;
  const char* set;    // that it makes
  int stride_factor;  // samples of all but the first are smaller
};
inline const std::vector<SweptRun>& swept_runs() {
  static const std::vector<SweptRun> kRuns = {
      {"Incremental", false, std::nullopt, "c1-2", 1},
      {"Full", false, SetKind::kFull, "c2-0", 5},
      {"ProtectedIncremental", true, std::nullopt, "c1-2", 6},
      {"ProtectedFull", true, SetKind::kFull, "c2-0", 7},
  };
  return kRuns;
}

}  // namespace kestrum::test
