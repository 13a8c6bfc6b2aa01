// The help that is made from the table of commands.
#include <fmt/format.h>

#include "command.h"
#include "kestrum/base/text.h"
#include "table.h"

namespace kestrum::cli {
namespace {

// Commands by the situation in which they are wanted. Those of a group such as "job" share a line.
struct Situation {
  const char* name;
  std::vector<std::string> commands;
};

const std::vector<Situation>& situations() {
  static const std::vector<Situation> kSituations = {
      {"set up", {"job", "schedule", "passphrase"}},
      {"every day", {"forecast", "run", "stop", "status", "report", "history", "agenda"}},
      {"a file is gone", {"trace", "look", "compare", "restore"}},
      {"can it be trusted", {"sets", "verify", "drill", "trust"}},
      {"disks", {"shelf", "prune"}},
      {"try it", {"demo"}}};
  return kSituations;
}

// "new, list, show" of the group "job"; empty if it is no group.
std::string words_of_group(const std::string& group) {
  std::string words;
  for (const Command& command : commands()) {
    if (!command.name.starts_with(group + " ")) continue;
    words += (words.empty() ? "" : ", ") + command.name.substr(group.size() + 1);
  }
  return words;
}

// Lines of the source joined to paragraphs, and those broken to fit; what is set in stays.
std::string paragraphs(const std::string& text) {
  std::string joined;
  for (const std::string& line : split(text, '\n')) {
    bool goes_on = !joined.empty() && joined.back() != '\n' && !line.empty() && line[0] != ' ';
    joined += (joined.empty() ? "" : goes_on ? " " : "\n") + line;
  }
  return wrapped(joined, kPage.columns, 0);
}

std::string table_of(const std::vector<OptionSpec>& options) {
  Table table("<w");
  for (const OptionSpec& option : options) {
    table.add({"--" + option.name + (option.value.empty() ? "" : " " + option.value), option.help});
  }
  return table.text(2, kPage);
}

constexpr const char* kEverywhere =
    "\nAlways: --json, --quiet, --verbose, --yes, --home DIR, --passphrase-from FILE\n";

}  // namespace

std::string overview() {
  Table table("<<w");
  for (const Situation& situation : situations()) {
    std::string name = situation.name;
    for (const std::string& word : situation.commands) {
      const Command* command = find_command(word);
      table.add({name, word, command == nullptr ? words_of_group(word) : command->summary});
      name.clear();
    }
  }
  return "Kestrum backs up folders of this PC: compressed, encrypted, in chains of sets.\n\n" +
         table.text(2, kPage) +
         "\nMore: kestrum help COMMAND; and on phrases, patterns, times, places, job-file\n" +
         kEverywhere +
         "\nExamples:\n"
         "  kestrum job new front-desk --from ~/Documents --to /media/blue-disk\n"
         "  kestrum run front-desk\n"
         "  kestrum restore front-desk rota.ods --to ~/back --point yesterday\n";
}

std::string help_on(const Command& command) {
  std::string out = "kestrum " + wrapped(command.usage, kPage.columns - 8, 8) + "\n\n" +
                    paragraphs(command.about) + "\n";
  if (!command.options.empty()) out += "\n" + table_of(command.options);
  out += kEverywhere;
  out += "\nExamples:\n";
  for (const auto& example : command.examples) out += "  " + example + "\n";
  return out;
}

std::string help_on_group(const std::string& group) {
  std::string out;
  for (const Command& command : commands()) {
    if (!command.name.starts_with(group + " ")) continue;
    out += "  kestrum " + wrapped(command.usage, kPage.columns - 10, 12) + "\n      " +
           wrapped(command.summary, kPage.columns - 6, 6) + "\n";
  }
  return out;
}

}  // namespace kestrum::cli
