#include "kestrum/report/csv.h"

namespace kestrum {
namespace {

// Numbers may begin with a minus.
bool looks_like_formula(const std::string& cell) {
  if (cell.empty()) return false;
  if (cell[0] == '-') return cell.find_first_not_of("-0123456789.") != std::string::npos;
  return std::string("=+@\t\r").find(cell[0]) != std::string::npos;
}

}  // namespace

std::string csv_line(const std::vector<std::string>& cells) {
  std::string line;
  for (const std::string& given : cells) {
    if (&given != &cells.front()) line += ',';
    std::string cell = looks_like_formula(given) ? "'" + given : given;
    if (cell.find_first_of(",\"\r\n") == std::string::npos) {
      line += cell;
      continue;
    }
    line += '"';
    for (char c : cell) {
      if (c == '"') line += '"';
      line += c;
    }
    line += '"';
  }
  return line + "\r\n";
}

}  // namespace kestrum
