#include "screen.h"

#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <vector>

#include "kestrum/base/text.h"

namespace kestrum::cli {
namespace {

constexpr unsigned kLeastColumns = 40, kMostColumns = 10'000;

Screen screen_of(int fd) {
  static const bool terminals[] = {::isatty(0) != 0, ::isatty(1) != 0, ::isatty(2) != 0};
  static const char* const kKind = std::getenv("TERM");
  Screen screen;
  screen.terminal = terminals[fd];
  screen.dumb = kKind != nullptr && std::string_view(kKind) == "dumb";
  winsize size{};
  if (screen.terminal && ::ioctl(fd, TIOCGWINSZ, &size) == 0 && size.ws_col > 0) {
    screen.columns = std::max<std::size_t>(kLeastColumns, size.ws_col);
    return screen;
  }
  const char* columns = std::getenv("COLUMNS");
  auto given = columns == nullptr ? std::nullopt : parse_number(columns, kMostColumns);
  if (given) screen.columns = std::max(kLeastColumns, *given);
  return screen;
}

// Behind the command that begins there: "kestrum run desk" of "kestrum run desk, or ...".
std::size_t end_of_command(std::string_view line, std::size_t at) {
  bool quoted = false;
  for (std::size_t i = at; i < line.size(); ++i) {
    if (line[i] == '\'') quoted = !quoted;
    if (quoted) continue;
    if (line[i] == ';' || line[i] == ',' || line[i] == ')') return i + 1;
    if (line.substr(i, 2) == " (" || line.substr(i, 9) == " or kestr") return i;
  }
  return line.size();
}

// What stays together: words, and commands to paste as a whole.
std::vector<std::string_view> pieces_of(std::string_view line) {
  std::vector<std::string_view> pieces;
  for (std::size_t i = line.find_first_not_of(' '); i != std::string_view::npos;
       i = line.find_first_not_of(' ', i)) {
    std::size_t end = line.substr(i).starts_with("kestrum ")
                          ? end_of_command(line, i)
                          : std::min(line.find(' ', i), line.size());
    pieces.push_back(line.substr(i, end - i));
    i = end;
  }
  return pieces;
}

std::string wrapped_line(std::string_view line, std::size_t columns, std::size_t hang) {
  if (visible_width(line) <= columns) return std::string(line);
  std::size_t indent = std::min(line.find_first_not_of(' '), line.size());
  if (hang == std::string::npos) hang = indent + 2;
  std::string out(indent, ' ');
  std::size_t used = indent;
  bool first = true;
  for (std::string_view piece : pieces_of(line)) {
    std::size_t width = visible_width(piece);
    if (!first && used + 1 + width > columns) {
      out += "\n" + std::string(hang, ' ');
      used = hang;
      first = true;
    }
    if (!first) {
      // Blanks that set columns apart stay.
      std::size_t before = static_cast<std::size_t>(piece.data() - line.data());
      std::size_t blanks = before - line.find_last_not_of(' ', before - 1) - 1;
      if (used + blanks + width > columns) blanks = 1;
      out += std::string(blanks, ' ');
      used += blanks;
    }
    out += piece;
    used += width;
    first = false;
  }
  return out;
}

}  // namespace

Screen output_screen() {
  return screen_of(STDOUT_FILENO);
}

Screen message_screen() {
  return screen_of(STDERR_FILENO);
}

std::size_t visible_width(std::string_view text) {
  std::size_t width = 0;
  for (std::size_t at = 0; at < text.size();) {
    std::size_t colour = std::min(text.find("\x1b[", at), text.size());
    width += display_width(text.substr(at, colour - at));
    at = colour == text.size() ? colour : text.find('m', colour);
    at = std::min(at, text.size() - 1) + 1;
  }
  return width;
}

std::string wrapped(const std::string& text, std::size_t columns, std::size_t hang) {
  std::string out;
  for (std::size_t begin = 0;;) {
    std::size_t end = std::min(text.find('\n', begin), text.size());
    out += wrapped_line(std::string_view(text).substr(begin, end - begin), columns, hang);
    if (end == text.size()) return out;
    out += '\n';
    begin = end + 1;
  }
}

std::string data_line(const std::string& before, const std::string& name, const std::string& after,
                      const Screen& screen) {
  std::size_t others = visible_width(before) + visible_width(after);
  std::size_t room = screen.columns > others ? screen.columns - others : 0;
  bool fits = !screen.terminal || visible_width(name) <= room;
  return before + (fits ? name : shortened(name, std::max(room, kLeastName))) + after;
}

void put_message(const std::string& text) {
  std::fwrite(text.data(), 1, text.size(), stderr);
  std::fflush(stderr);
}

}  // namespace kestrum::cli
