// Aligned columns for a terminal.
#pragma once

#include <string>
#include <vector>

namespace kestrum::cli {

class Table {
 public:
  // One character a column: '<' left, '>' right.
  explicit Table(std::string alignment) : alignment_(std::move(alignment)) {}
  // A row; it may have fewer cells than there are columns. Returns its number.
  std::size_t add(std::vector<std::string> cells);
  void replace(std::size_t row, std::vector<std::string> cells) { rows_[row] = std::move(cells); }
  bool empty() const { return rows_.empty(); }
  // Lines with `indent` spaces in front and two between columns.
  std::string text(std::size_t indent = 2) const;

 private:
  std::string alignment_;
  std::vector<std::vector<std::string>> rows_;
};

// Words that a terminal shows in colour, if it may; plain text elsewhere. `colour` is an ANSI code.
std::string coloured(const std::string& text, const char* colour);
inline constexpr const char* kGreen = "32";
inline constexpr const char* kYellow = "33";
inline constexpr const char* kRed = "31";
inline constexpr const char* kBold = "1";

}  // namespace kestrum::cli
