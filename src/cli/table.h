// Aligned columns that fit the terminal.
#pragma once

#include <string>
#include <vector>

#include "screen.h"

namespace kestrum::cli {

class Table {
 public:
  // One character a column: '<' left, '>' right; 'p' left, a path or name that is shortened in its
  // middle on a terminal that is too narrow; 'w' left, prose, as the last column only: it is
  // wrapped under itself, or, where there is no room for that, below its row.
  explicit Table(std::string alignment) : alignment_(std::move(alignment)) {}
  // A row; it may have fewer cells than there are columns. Returns its number.
  std::size_t add(std::vector<std::string> cells);
  // A line across all columns in the place of a row.
  void make_heading(std::size_t row, const std::string& text);
  bool empty() const { return rows_.empty(); }
  // Lines with `indent` spaces in front and two between columns.
  std::string text(std::size_t indent = 2, const Screen& screen = output_screen()) const;

 private:
  std::vector<std::size_t> widths(std::size_t indent, const Screen& screen) const;

  std::string alignment_;
  std::vector<std::vector<std::string>> rows_;
  std::vector<std::size_t> headings_;  // numbers of rows, ascending
};

// Words that a terminal shows in bold and in a colour, if it may; plain text elsewhere. `colour` is
// an ANSI code. Bold, so that it reads on dark and on light grounds.
std::string coloured(const std::string& text, const char* colour);
inline constexpr const char* kGreen = "32";
inline constexpr const char* kMagenta =
    "35";  // for what is to be heeded; yellow does not show on white
inline constexpr const char* kRed = "31";
inline constexpr const char* kBold = "";

}  // namespace kestrum::cli
