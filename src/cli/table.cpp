#include "table.h"

#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <numeric>

#include "kestrum/base/text.h"

namespace kestrum::cli {
namespace {

constexpr std::size_t kGap = 2;  // between columns
constexpr std::size_t kLeastProse = 14;

}  // namespace

std::size_t Table::add(std::vector<std::string> cells) {
  rows_.push_back(std::move(cells));
  return rows_.size() - 1;
}

void Table::make_heading(std::size_t row, const std::string& text) {
  rows_[row] = {text};
  headings_.insert(std::lower_bound(headings_.begin(), headings_.end(), row), row);
}

std::vector<std::size_t> Table::widths(std::size_t indent, const Screen& screen) const {
  std::vector<std::size_t> widths(alignment_.size(), 0);
  for (std::size_t number = 0; number < rows_.size(); ++number) {
    if (std::binary_search(headings_.begin(), headings_.end(), number)) continue;
    for (std::size_t i = 0; i < rows_[number].size(); ++i) {
      widths[i] = std::max(widths[i], visible_width(rows_[number][i]));
    }
  }
  auto whole = [&] {
    return std::accumulate(widths.begin(), widths.end(), indent + kGap * (widths.size() - 1));
  };
  bool prose = alignment_.ends_with('w');
  std::size_t prose_width = widths.back();
  if (prose) widths.back() = std::min(widths.back(), kLeastProse);
  while (screen.terminal && whole() > screen.columns) {
    std::size_t widest = widths.size();
    for (std::size_t i = 0; i < widths.size(); ++i) {
      bool may = alignment_[i] == 'p' && widths[i] > kLeastName;
      if (may && (widest == widths.size() || widths[i] > widths[widest])) widest = i;
    }
    if (widest == widths.size()) break;
    --widths[widest];
  }
  if (prose) {
    std::size_t others = whole() - widths.back();
    std::size_t room = screen.columns > others ? screen.columns - others : 0;
    widths.back() = std::min(prose_width, std::max(room, kLeastProse));
  }
  return widths;
}

std::string Table::text(std::size_t indent, const Screen& screen) const {
  if (rows_.empty()) return "";
  std::vector<std::size_t> wide = widths(indent, screen);
  std::string out;
  for (std::size_t number = 0; number < rows_.size(); ++number) {
    const auto& row = rows_[number];
    std::string line(indent, ' ');
    if (std::binary_search(headings_.begin(), headings_.end(), number)) {
      out += wrapped(line + row[0], screen.columns) + "\n";
      continue;
    }
    std::size_t used = indent;
    for (std::size_t i = 0; i < row.size(); ++i) {
      if (i > 0) {
        line += std::string(kGap, ' ');
        used += kGap;
      }
      std::string cell = row[i];
      if (alignment_[i] == 'p' && visible_width(cell) > wide[i]) cell = shortened(cell, wide[i]);
      if (alignment_[i] == 'w' && i + 1 == alignment_.size()) {
        std::string prose = wrapped(cell, wide[i], 0);
        for (char c : prose) line += c == '\n' ? "\n" + std::string(used, ' ') : std::string(1, c);
        continue;
      }
      std::size_t width = visible_width(cell);
      std::string space(wide[i] > width ? wide[i] - width : 0, ' ');
      line += alignment_[i] == '>' ? space + cell : cell + space;
      used += std::max(wide[i], width);
    }
    line.erase(line.find_last_not_of(' ') + 1);
    out += line + "\n";
  }
  return out;
}

std::string coloured(const std::string& text, const char* colour) {
  static const bool kUse =
      output_screen().terminal && !output_screen().dumb && std::getenv("NO_COLOR") == nullptr;
  if (!kUse) return text;
  std::string code = *colour == '\0' ? "1" : std::string("1;") + colour;
  return "\x1b[" + code + "m" + text + "\x1b[0m";
}

}  // namespace kestrum::cli
