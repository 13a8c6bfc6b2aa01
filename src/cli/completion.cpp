#include "completion.h"

#include <algorithm>

#include "command.h"
#include "kestrum/access/job_reader.h"
#include "kestrum/base/text.h"
#include "kestrum/job/job_keys.h"
#include "kestrum/select/litter.h"

namespace kestrum::cli {
namespace {

constexpr std::size_t kMostCandidates = 500;

using Names = std::vector<std::string>;

// The words that may follow: names of commands, and of the words of a group.
Names command_words(const Names& typed) {
  Names names;
  for (const Command& command : commands()) {
    std::vector<std::string> words = split(command.name, ' ');
    std::size_t at = typed.size() - 1;
    bool fits = at < words.size() && std::equal(typed.begin(), typed.end() - 1, words.begin());
    if (fits && std::find(names.begin(), names.end(), words[at]) == names.end()) {
      names.push_back(words[at]);
    }
  }
  if (typed.size() == 1) names.push_back("help");
  return names;
}

// The command that the words begin with, the longest first.
const Command* command_of(const Names& typed) {
  if (typed.size() > 1) {
    if (const Command* both = find_command(typed[0] + " " + typed[1])) return both;
  }
  return typed.empty() ? nullptr : find_command(typed[0]);
}

class Completer {
 public:
  Completer(const Command& command, const Names& typed)
      : command_(command), typed_(typed), home_(Home::find("")) {}

  Names candidates() {
    const std::string& last = typed_.back();
    if (last.starts_with("--")) return options();
    const std::string before = typed_.size() > 1 ? typed_[typed_.size() - 2] : "";
    if (before.starts_with("--") && takes_value(before.substr(2))) return values(before.substr(2));
    return positional();
  }

 private:
  bool takes_value(const std::string& option) const {
    for (const auto* list : {&command_.options, &common_options()}) {
      for (const OptionSpec& spec : *list) {
        if (spec.name == option) return !spec.value.empty();
      }
    }
    return false;
  }

  Names options() const {
    Names names;
    for (const auto* list : {&command_.options, &common_options()}) {
      for (const OptionSpec& spec : *list) names.push_back("--" + spec.name);
    }
    return names;
  }

  // Words that are neither options nor their values, behind the command's own.
  Names arguments() const {
    Names names;
    std::size_t own = split(command_.name, ' ').size();
    for (std::size_t i = own; i + 1 < typed_.size(); ++i) {
      if (typed_[i].starts_with("--")) {
        if (takes_value(typed_[i].substr(2))) ++i;
        continue;
      }
      names.push_back(typed_[i]);
    }
    return names;
  }

  Names values(const std::string& option) {
    if (option == "kind") return {"full", "incremental", "differential"};
    if (option == "clash") return {"ask", "skip", "replace", "both", "replace-older"};
    if (option == "layout") return {"trimmed", "full", "flat"};
    if (option == "owner") return {"names", "numbers", "me"};
    if (option == "level") return {"fast", "normal", "small", "off"};
    if (option == "protection") return {"passphrase", "none"};
    if (option == "when-full") return {"prune", "stop", "ask", "prune deeper"};
    if (option == "if-missed") return {"next chance", "skip"};
    if (option == "when") {
      return {"every day at 21:00",        "every weekday at 12:30",
              "every mon, fri at 17:00",   "every hour at :26",
              "monthly on day 1 at 06:00", "when files change, at most every 10 minutes"};
    }
    if (option == "new-full") {
      return {"after 13 sets", "every sunday", "every 4 weeks", "monthly", "never"};
    }
    if (option == "only") return categories();
    if (option == "point" || option == "with") return points(option == "with");
    if (option == "on" || option == "at") return places();
    return {};
  }

  static Names categories() {
    Names names;
    for (const FileCategory& category : file_categories()) names.push_back(category.name);
    return names;
  }

  Names positional() {
    Names given = arguments();
    const std::string& name = command_.name;
    bool all_of_jobs = name == "run";
    bool takes_job = command_.usage.find(" NAME") != std::string::npos && name != "job new";
    if (takes_job && (given.empty() || all_of_jobs)) return JobStore(home_).names();
    if (name == "trust" && given.size() == 1) return points(false);
    if (name == "job set" && given.size() == 1) {
      Names keys;
      for (const JobKey& key : job_keys()) keys.push_back(key.id());
      return keys;
    }
    if ((name == "look" || name == "restore" || name == "compare") && !given.empty())
      return paths();
    return {};
  }

  Job job() const { return JobStore(home_).load(arguments().at(0)); }

  Names places() const { return job().places; }

  std::vector<ReadSession*> sessions() {
    ReadOptions options;
    options.job = job();
    options.need_content = false;
    reader_.emplace(MachineState(home_), options, quiet_);
    return reader_->sessions();
  }

  Names points(bool with_now) {
    Names names = {"newest", "oldest", "yesterday"};
    if (with_now) names.insert(names.begin(), "now");
    for (ReadSession* session : sessions()) {
      for (const IndexedSet& set : session->sets()) names.push_back(set.set.to_string());
    }
    return names;
  }

  // What lies in the folder that is typed so far, at the newest restore point.
  Names paths() {
    const std::string& last = typed_.back();
    if (!last.empty() && !last.starts_with('/')) return {};
    std::string folder = last.substr(0, last.rfind('/') + 1);
    Names names;
    for (ReadSession* session : sessions()) {
      auto newest = session->index().newest();
      if (!newest) continue;
      if (folder.empty() || folder == "/") {
        for (const auto& root : newest->roots) names.push_back(root.path + "/");
        continue;
      }
      std::string below = folder.substr(1, folder.size() - 2);
      auto cursor = session->index().state_at(newest->set, below);
      IndexEntry entry;
      while (cursor.next(entry) && names.size() < kMostCandidates) {
        const Entry& e = entry.line.entry;
        if (e.path.size() <= below.size()) continue;
        bool is_folder = e.type == EntryType::kFolder;
        if (e.path.find('/', below.size() + 1) != std::string::npos) continue;
        if (is_folder) cursor.skip_below(e.path);
        names.push_back("/" + e.path + (is_folder ? "/" : ""));
      }
    }
    return names;
  }

  const Command& command_;
  const Names& typed_;
  Home home_;
  Observer quiet_;
  std::optional<JobReader> reader_;
};

}  // namespace

std::vector<std::string> completions(const std::vector<std::string>& words) {
  Names candidates;
  if (words.empty()) return candidates;
  try {
    Names typed = words;
    bool help = typed[0] == "help" && typed.size() > 1;
    if (help) typed.erase(typed.begin());
    if (help && typed.size() == 1)
      candidates = {"phrases", "patterns", "times", "places", "job-file"};
    const Command* command = command_of(Names(typed.begin(), typed.end() - 1));
    Names more =
        command == nullptr ? command_words(typed) : Completer(*command, typed).candidates();
    candidates.insert(candidates.end(), more.begin(), more.end());
  } catch (const std::exception&) {
    return {};
  }
  std::erase_if(candidates, [&](const std::string& name) {
    return !name.starts_with(words.back()) || name.find('\n') != std::string::npos;
  });
  if (candidates.size() > kMostCandidates) candidates.resize(kMostCandidates);
  return candidates;
}

}  // namespace kestrum::cli
