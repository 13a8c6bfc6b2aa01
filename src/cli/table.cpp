#include "table.h"

#include <unistd.h>

#include <algorithm>
#include <cstdlib>

#include "kestrum/base/text.h"

namespace kestrum::cli {

std::size_t Table::add(std::vector<std::string> cells) {
  rows_.push_back(std::move(cells));
  return rows_.size() - 1;
}

std::string Table::text(std::size_t indent) const {
  std::vector<std::size_t> widths(alignment_.size(), 0);
  for (const auto& row : rows_) {
    for (std::size_t i = 0; i < row.size(); ++i) {
      widths[i] = std::max(widths[i], display_width(row[i]));
    }
  }
  std::string out;
  for (const auto& row : rows_) {
    std::string line(indent, ' ');
    for (std::size_t i = 0; i < row.size(); ++i) {
      std::string space(widths[i] - display_width(row[i]), ' ');
      if (i > 0) line += "  ";
      line += alignment_[i] == '>' ? space + row[i] : row[i] + space;
    }
    line.erase(line.find_last_not_of(' ') + 1);
    out += line + "\n";
  }
  return out;
}

std::string coloured(const std::string& text, const char* colour) {
  static const bool kUse =
      ::isatty(STDOUT_FILENO) != 0 && std::getenv("NO_COLOR") == nullptr &&
      std::string(std::getenv("TERM") == nullptr ? "" : std::getenv("TERM")) != "dumb";
  if (!kUse) return text;
  return std::string("\x1b[") + colour + "m" + text + "\x1b[0m";
}

}  // namespace kestrum::cli
