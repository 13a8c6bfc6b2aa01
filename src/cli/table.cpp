#include "table.h"

#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <numeric>

#include "kestrum/base/text.h"

namespace kestrum::cli {
namespace {

constexpr std::size_t kGap = 2;       // between columns
constexpr std::size_t kLegible = 28;  // prose with less room goes below its row
constexpr std::size_t kBelow = 2;     // so much further in

// A text of several lines, of which all but the first begin behind so many spaces.
std::string hanging(const std::string& text, std::size_t spaces) {
  std::string out;
  for (char c : text) out += c == '\n' ? "\n" + std::string(spaces, ' ') : std::string(1, c);
  return out;
}

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
  auto shorten_names = [&] {
    while (screen.terminal && whole() > screen.columns) {
      std::size_t widest = widths.size();
      for (std::size_t i = 0; i < widths.size(); ++i) {
        bool may = alignment_[i] == 'p' && widths[i] > kLeastName;
        if (may && (widest == widths.size() || widths[i] > widths[widest])) widest = i;
      }
      if (widest == widths.size()) break;
      --widths[widest];
    }
  };
  if (!alignment_.ends_with('w')) {
    shorten_names();
    return widths;
  }
  const std::vector<std::size_t> wanted = widths;
  std::size_t least = std::min(wanted.back(), kLegible);
  widths.back() = least;
  shorten_names();
  std::size_t others = whole() - widths.back();
  std::size_t room = screen.columns > others ? screen.columns - others : 0;
  if (room >= least) {
    widths.back() = std::min(wanted.back(), room);
  } else {
    widths = wanted;
    widths.back() = 0;
    shorten_names();
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
      std::string cell = row[i];
      bool prose = alignment_[i] == 'w' && i + 1 == alignment_.size();
      if (prose && wide[i] == 0) {
        line.erase(line.find_last_not_of(' ') + 1);
        if (cell.empty()) continue;
        std::size_t spaces = indent + kBelow;
        std::size_t room = screen.columns > spaces ? screen.columns - spaces : 1;
        line += (line.empty() ? "" : "\n") + std::string(spaces, ' ') +
                hanging(wrapped(cell, room, 0), spaces);
        continue;
      }
      if (i > 0) {
        line += std::string(kGap, ' ');
        used += kGap;
      }
      if (prose) {
        line += hanging(wrapped(cell, wide[i], 0), used);
        continue;
      }
      if (alignment_[i] == 'p' && visible_width(cell) > wide[i]) cell = shortened(cell, wide[i]);
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
