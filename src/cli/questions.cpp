#include "questions.h"

#include <fmt/format.h>
#include <unistd.h>

#include <cstdio>

#include "kestrum/base/text.h"

namespace kestrum::cli {
namespace {

std::string read_line() {
  std::string line;
  for (char c = 0;;) {
    ssize_t n = ::read(STDIN_FILENO, &c, 1);
    if (n < 0 && errno == EINTR && !stop_requested()) continue;
    // What was done before it was asked, only the caller knows.
    if (n <= 0 || stop_requested()) throw Error(ErrorKind::kStopped, "stopped");
    if (c == '\n') return std::string(trimmed(line));
    line += c;
  }
}

}  // namespace

bool can_ask(const Context& context) {
  return !context.json && !context.yes && ::isatty(STDIN_FILENO) != 0 &&
         ::isatty(STDERR_FILENO) != 0;
}

std::string ask(const std::string& question, const std::string& fallback) {
  std::fflush(stdout);
  fmt::print(stderr, "{}{}: ", question, fallback.empty() ? "" : " [" + fallback + "]");
  std::fflush(stderr);
  std::string line = read_line();
  if (::isatty(STDIN_FILENO) == 0) fmt::print(stderr, "\n");  // nobody has typed one
  return line.empty() ? fallback : line;
}

bool ask_yes(const std::string& question, bool fallback) {
  for (;;) {
    std::string answer = lower_ascii(ask(question + (fallback ? " [Y/n]" : " [y/N]")));
    if (answer.empty()) return fallback;
    if (answer == "y" || answer == "yes") return true;
    if (answer == "n" || answer == "no") return false;
  }
}

std::size_t ask_choice(const std::string& question, const std::vector<std::string>& choices,
                       std::size_t fallback) {
  for (std::size_t i = 0; i < choices.size(); ++i) {
    fmt::print(stderr, "  {}  {}\n", i + 1, choices[i]);
  }
  for (;;) {
    std::string answer = ask(question, std::to_string(fallback + 1));
    auto number = parse_number(answer);
    if (number && *number >= 1 && *number <= choices.size()) return *number - 1;
    for (std::size_t i = 0; i < choices.size(); ++i) {
      if (choices[i].starts_with(lower_ascii(answer))) return i;
    }
    fmt::print(stderr, "A number from 1 to {}, please.\n", choices.size());
  }
}

}  // namespace kestrum::cli
