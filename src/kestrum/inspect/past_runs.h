// The records of a job's runs as values.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/machine/run_records.h"

namespace kestrum {

// A run on record, also one that was skipped or cut off.
struct PastRun {
  std::string run;  // its id
  Nanos started = 0;
  double seconds = 0;
  std::string outcome, reason, trigger;
  std::optional<SetId> set;
  std::optional<SetKind> kind;
  std::uint64_t files_copied = 0, copied = 0, stored = 0, seen = 0;  // bytes but the first
  std::uint64_t warning_count = 0;
  std::vector<Warning> warnings;  // the first of them
  std::vector<SetId> pruned;
  std::string shelf;                        // absolute folder; empty if it found none
  std::uint64_t shelf_stored = 0;           // bytes, at its end
  std::optional<std::uint64_t> shelf_free;  // as well; nothing where the place does not tell
};

// The oldest first; records that cannot be read are passed over.
std::vector<PastRun> past_runs_of(const RunRecords& records);

}  // namespace kestrum
