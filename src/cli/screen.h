// How wide lines may be, and prose that is made to fit.
#pragma once

#include <string>
#include <string_view>

namespace kestrum::cli {

struct Screen {
  std::size_t columns = 80;
  bool terminal = false;  // elsewhere data lines stay whole, however long
  bool dumb = false;      // a terminal that knows neither colours nor the way back in a line
};

// Help and pages are made for so many.
inline constexpr Screen kPage = {80, false};
// A name is not shortened further than to this many columns.
inline constexpr std::size_t kLeastName = 16;

// Of standard output and of standard error: the terminal's columns; of a pipe or a file the
// variable COLUMNS, else 80.
Screen output_screen();
Screen message_screen();

// Columns that a terminal needs for it; colours need none.
std::size_t visible_width(std::string_view text);

// The text with lines of at most so many columns, broken at blanks; what is broken goes on two
// columns further in than its line began, or `hang` columns if that is given. A command to paste is
// never broken: it gets a line of its own where it does not fit.
std::string wrapped(const std::string& text, std::size_t columns,
                    std::size_t hang = std::string::npos);

// `name` between two texts, shortened in its middle where a terminal is too narrow for it.
std::string data_line(const std::string& before, const std::string& name, const std::string& after,
                      const Screen& screen);

// Writes to standard error; where nobody reads that any more, nothing happens.
void put_message(const std::string& text);

}  // namespace kestrum::cli
