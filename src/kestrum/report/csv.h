// Tables as comma-separated values (RFC 4180).
#pragma once

#include <string>
#include <vector>

namespace kestrum {

// A line with its end. A text that a spreadsheet would take for a formula gets an apostrophe in
// front.
std::string csv_line(const std::vector<std::string>& cells);

}  // namespace kestrum
