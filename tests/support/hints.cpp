#include "support/hints.h"

#include <algorithm>
#include <map>
#include <regex>
#include <sstream>

#include "support/program.h"

namespace kestrum::test {
namespace {

const std::string kName = "kestrum ";

struct Known {
  bool there = false;
  std::string usage;
  std::map<std::string, bool> options;  // and whether each takes a value
};

// Asks the program once a command.
const Known& known(const std::string& command) {
  static std::map<std::string, Known> all;
  auto [at, fresh] = all.try_emplace(command);
  if (!fresh) return at->second;
  std::vector<std::string> argv = {KESTRUM_PROGRAM, "help"};
  for (const std::string& word : words_of(command)) argv.push_back(word);
  Ran help = run_program(argv);
  at->second.options = {{"--home", true},        {"--json", false},
                        {"--quiet", false},      {"--verbose", false},
                        {"--yes", false},        {"--shelf", true},
                        {"--help", false},       {"--passphrase-from", true},
                        {"--key-file", true},    {"--signer", true},
                        {"--unprotected", false}};
  std::istringstream lines(help.out);
  std::string line;
  static const std::regex kOption("^  (--[a-z-]+)( [A-Z][^ ]*)?( .*)?$");
  std::smatch match;
  while (std::getline(lines, line)) {
    if (at->second.usage.empty()) at->second.usage = line;
    if (std::regex_match(line, match, kOption)) at->second.options[match[1]] = match[2].matched;
  }
  // Of a group of commands, such as "job", the help is a table.
  at->second.there = help.exit == 0 && at->second.usage.starts_with(kName + command);
  return at->second;
}

bool begins_hint(const std::string& line, std::size_t at) {
  static const std::regex kBefore(R"((^|[:;,(?]|\bor|\bthen|\buntil) *$)");
  std::string before = line.substr(0, at);
  if (before.find_first_not_of(' ') == std::string::npos) return true;
  return std::regex_search(before, kBefore);
}

std::size_t end_of_hint(const std::string& line, std::size_t at) {
  bool quoted = false;
  for (std::size_t i = at; i < line.size(); ++i) {
    if (line[i] == '\'') quoted = !quoted;
    if (quoted) continue;
    if (line[i] == ';' || line[i] == ',' || line[i] == ')') return i;
    if (line.compare(i, 2, " (") == 0 || line.compare(i, 8, " or kest") == 0) return i;
  }
  std::size_t end = line.size();
  while (end > at && (line[end - 1] == '?' || line[end - 1] == ' ')) --end;
  if (end > at && line[end - 1] == '.' && !line.substr(at, end - at).ends_with("...")) --end;
  return end;
}

}  // namespace

std::vector<std::string> hints_in(const std::string& output) {
  static const std::regex kColours("\x1b\\[[0-9;]*m");
  std::vector<std::string> hints;
  std::istringstream lines(std::regex_replace(output, kColours, ""));
  std::string line;
  while (std::getline(lines, line)) {
    for (std::size_t at = line.find(kName); at != std::string::npos;
         at = line.find(kName, at + 1)) {
      if (!begins_hint(line, at)) continue;
      std::size_t end = end_of_hint(line, at);
      std::string hint = line.substr(at, end - at);
      // Help says how a command is used, and lists commands in columns.
      bool usage = hint.find('[') != std::string::npos || hint.find('|') != std::string::npos ||
                   hint.find("  ") != std::string::npos;
      if (!usage) hints.push_back(hint);
    }
  }
  return hints;
}

std::vector<std::string> words_of(const std::string& hint) {
  std::vector<std::string> words;
  std::string word;
  bool any = false, quoted = false;
  for (std::size_t i = 0; i < hint.size(); ++i) {
    char c = hint[i];
    if (c == '\'') {
      quoted = !quoted;
      any = true;
    } else if (c == '\\' && !quoted && i + 1 < hint.size()) {
      word += hint[++i];
      any = true;
    } else if (c == ' ' && !quoted) {
      if (any) words.push_back(word);
      word.clear();
      any = false;
    } else {
      word += c;
      any = true;
    }
  }
  if (any) words.push_back(word);
  return words;
}

std::string why_no_command(const std::string& hint) {
  std::vector<std::string> words = words_of(hint);
  words.erase(words.begin());  // the program
  if (words.empty()) return "no command";
  if (words[0] == "help") return "";
  std::string command = words[0];
  std::size_t next = 1;
  if (!known(command).there && words.size() > 1) command += " " + words[next++];
  const Known& of = known(command);
  if (!of.there) return "no such command: " + command;
  std::size_t names = 0;
  bool by_option = false;
  for (; next < words.size(); ++next) {
    if (!words[next].starts_with("--")) {
      ++names;
      continue;
    }
    auto option = of.options.find(words[next]);
    if (option == of.options.end()) return "no option " + words[next] + " of " + command;
    by_option |= words[next] == "--all" || words[next] == "--due" || words[next] == "--stay" ||
                 words[next] == "--shelf";
    if (!option->second) continue;
    if (++next == words.size()) return words[next - 1] + " has no value";
  }
  bool wants_name = of.usage.starts_with("kestrum " + command + " NAME") ||
                    of.usage.starts_with("kestrum " + command + " SHELF");
  if (wants_name && names == 0 && !by_option) return "no name of a job";
  // Prose that goes on behind the command would be taken for names.
  bool many = of.usage.find("...") != std::string::npos;
  std::string plain = of.usage.substr(0, of.usage.find(" --"));
  auto allowed = static_cast<std::size_t>(std::count(plain.begin(), plain.end(), ' ')) -
                 static_cast<std::size_t>(std::count(command.begin(), command.end(), ' ')) - 1;
  if (!many && names > allowed) return "more words than " + of.usage + " takes";
  return "";
}

}  // namespace kestrum::test
