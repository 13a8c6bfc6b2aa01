#include "kestrum/job/job_problem.h"

#include <fmt/format.h>

namespace kestrum {

std::string JobProblem::text() const {
  std::string out = line > 0 ? fmt::format("line {}: ", line) : "";
  if (!key.empty()) out += key + ": ";
  return out + message;
}

}  // namespace kestrum
