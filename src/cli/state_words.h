// How states of jobs and shelves are shown: in colour, in JSON, to monitoring.
#pragma once

#include <fmt/format.h>

#include <optional>
#include <string>

#include "kestrum/base/json.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/job_status.h"
#include "table.h"

namespace kestrum::cli {

inline const char* colour_of(StatusLevel level) {
  return level == StatusLevel::kFine ? kGreen : level == StatusLevel::kWarning ? kMagenta : kRed;
}

// null for a time that is 0: never, none.
inline Json time_json(Nanos time) {
  return time == 0 ? Json(nullptr) : Json(format_rfc3339(time));
}

// The one line that monitoring plugins print, for the worst level; nothing: nobody can say. Returns
// their exit code.
inline int print_probe(std::optional<StatusLevel> worst, const std::string& text) {
  constexpr const char* kWords[] = {"OK", "WARNING", "CRITICAL", "UNKNOWN"};
  int code = worst ? static_cast<int>(*worst) : 3;
  fmt::print("KESTRUM {}: {}\n", kWords[code], text);
  return code;
}

}  // namespace kestrum::cli
