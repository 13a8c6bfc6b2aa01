// The record of one run: what `run --json`, the log and last-run.json tell.
#pragma once

#include <array>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/json.h"
#include "kestrum/select/selection.h"
#include "kestrum/shelf/seal.h"

namespace kestrum {

struct Warning {
  std::string path;  // absolute; may be empty
  std::string reason;
};

enum class Outcome { kDone, kDoneWithWarnings, kFailed, kStopped, kSkipped };
const char* outcome_name(Outcome outcome);

struct RuleCount {
  std::uint64_t files = 0;
  std::uint64_t folders = 0;  // left out whole, with what is in them
  std::uint64_t bytes = 0;    // of the files
};

struct RunReport {
  std::string run;  // id, unique on this machine
  std::string job, host;
  Nanos started = 0, finished = 0;
  Outcome outcome = Outcome::kFailed;
  int exit = 3;
  std::string reason;  // why it ended as it did; empty when done
  std::string hint;
  std::optional<SetId> set;
  std::optional<SetKind> kind;
  std::optional<SetId> based_on;
  std::string why;  // why it is of this kind
  std::string shelf_path;
  bool continued = false, suspect = false;
  FileCounts files;
  ByteCounts bytes;
  double seconds = 0;
  // At most kWarningLimit are kept here; the log has them all.
  std::vector<Warning> warnings;
  std::uint64_t warning_count = 0;
  std::array<RuleCount, kRules> left_out{};
  std::vector<std::string> pruned;
  std::vector<std::string> notes;

  Json to_json() const;
};
inline constexpr std::size_t kWarningLimit = 10'000;

}  // namespace kestrum
