#include "other_words.h"

#include <algorithm>
#include <map>

#include "kestrum/base/text.h"

namespace kestrum::cli {

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
                                                            {"adopt", "shelf claim"},
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

std::string other_option(const std::string& name, const std::vector<std::string>& known) {
  static const std::multimap<std::string, std::string> kWords = {
      {"full", "kind full"},
      {"incremental", "kind incremental"},
      {"differential", "kind differential"},
      {"dry-run", "rehearse"},
      {"n", "rehearse"},
      {"simulate", "rehearse"},
      {"exclude", "leave-out"},
      {"ignore", "leave-out"},
      {"include", "only"},
      {"target", "to"},
      {"output", "to"},
      {"source", "from"},
      {"force", "yes"},
      {"y", "yes"},
      {"q", "quiet"},
      {"v", "verbose"},
      {"h", "help"},
      {"password-file", "passphrase-from"},
      {"passphrase-file", "passphrase-from"},
      {"new-passphrase-file", "next-passphrase-from"},
      {"as-of", "point"},
      {"at", "point"},
      {"time", "point"},
      {"sheet", "card"},
      {"overwrite", "clash replace"},
      {"version", "point"}};
  for (auto [word, end] = kWords.equal_range(name); word != end; ++word) {
    std::string option = word->second.substr(0, word->second.find(' '));
    if (std::find(known.begin(), known.end(), option) != known.end()) return word->second;
  }
  return nearest_word(name, known).value_or("");
}

}  // namespace kestrum::cli
