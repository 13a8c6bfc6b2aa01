// The help that is made from the table of commands.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "command.h"
#include "table.h"

namespace kestrum::cli {

std::string overview() {
  std::string out =
      "Kestrum backs up folders of this PC to a disk: compressed, encrypted, in chains of "
      "sets.\n\n";
  Table table("<<");
  std::string group;
  for (const Command& command : commands()) {
    std::size_t space = command.name.find(' ');
    if (space == std::string::npos) {
      table.add({"kestrum " + command.name, command.summary});
      continue;
    }
    // A group's words share a line or two.
    if (command.name.substr(0, space) == group) continue;
    group = command.name.substr(0, space);
    std::string words, first = "kestrum " + group;
    for (const Command& other : commands()) {
      if (!other.name.starts_with(group + " ")) continue;
      std::string word = other.name.substr(space + 1);
      if (words.size() + word.size() > 64) {
        table.add({first, words + ","});
        first = words = "";
      }
      words += (words.empty() ? "" : ", ") + word;
    }
    table.add({first, words});
  }
  table.add({"kestrum help COMMAND", "help on a command, with examples"});
  out += table.text();
  out +=
      "\nEverywhere: --home DIR, --json, --quiet, --verbose, --yes, --passphrase-file FILE, "
      "--help\n\n"
      "Examples:\n"
      "  kestrum job new front-desk --from ~/Documents --to /media/blue-disk\n"
      "  kestrum run front-desk\n"
      "  kestrum restore front-desk rota.ods --to ~/back --as-of yesterday\n";
  return out;
}

std::string help_on(const Command& command) {
  std::string out = "kestrum " + command.usage + "\n\n" + command.about + "\n";
  auto options = [&](const std::vector<OptionSpec>& list) {
    Table table("<<");
    for (const OptionSpec& option : list) {
      table.add(
          {"--" + option.name + (option.value.empty() ? "" : " " + option.value), option.help});
    }
    return table.text();
  };
  if (!command.options.empty()) out += "\n" + options(command.options);
  out += "\nEverywhere: --home DIR, --json, --quiet, --verbose, --yes, --passphrase-file FILE\n";
  out += "\nExamples:\n";
  for (const auto& example : command.examples) out += "  " + example + "\n";
  return out;
}

std::string other_word(const std::string& word) {
  static const std::map<std::string, std::string> kWords = {{"find", "trace"},
                                                            {"search", "trace"},
                                                            {"versions", "trace"},
                                                            {"diff", "compare"},
                                                            {"ls", "look"},
                                                            {"browse", "look"},
                                                            {"list", "job list"},
                                                            {"backup", "run"},
                                                            {"check", "verify"},
                                                            {"test", "verify"},
                                                            {"start", "run"},
                                                            {"import", "job take"},
                                                            {"new", "job new"},
                                                            {"create", "job new"},
                                                            {"log", "history"},
                                                            {"logs", "history"},
                                                            {"preview", "forecast"},
                                                            {"estimate", "forecast"},
                                                            {"cancel", "stop"},
                                                            {"delete", "job remove"},
                                                            {"edit", "job edit"},
                                                            {"pause", "job pause"},
                                                            {"resume", "job resume"},
                                                            {"rename", "job rename"},
                                                            {"calendar", "agenda"},
                                                            {"cron", "schedule install"},
                                                            {"timer", "schedule install"},
                                                            {"add", "job new"},
                                                            {"jobs", "job list"},
                                                            {"get", "restore"},
                                                            {"recover", "restore"},
                                                            {"extract", "restore"},
                                                            {"snapshots", "sets"},
                                                            {"chains", "sets"},
                                                            {"init", "shelf start"}};
  auto it = kWords.find(word);
  return it == kWords.end() ? "" : it->second;
}

}  // namespace kestrum::cli
