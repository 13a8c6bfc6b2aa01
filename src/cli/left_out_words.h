// What the rules of a job leave out, in words.
#pragma once

#include <array>
#include <string>

#include "kestrum/machine/run_report.h"

namespace kestrum::cli {

// "left out: 412 files and 3 folders, 38 GB (only: 400, smaller_than: 12)"; empty if nothing is.
// Files in folders that are left out whole are not counted.
std::string left_out_words(const std::array<RuleCount, kRules>& left_out);

}  // namespace kestrum::cli
