#include "args.h"

#include <fmt/format.h>

#include <algorithm>
#include <cxxopts.hpp>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "other_words.h"

namespace kestrum::cli {

const std::vector<OptionSpec>& common_options() {
  static const std::vector<OptionSpec> kOptions = {
      {"home", "DIR", "jobs and state are here (or KESTRUM_HOME)"},
      {"shelf", "DIR", "a shelf on a disk, in place of NAME, for commands that only read"},
      {"passphrase-from", "FILE", "read the passphrase from FILE (-: standard input)"},
      {"key-file", "FILE", "open the shelf with this age identity"},
      {"signer", "FINGERPRINT", "with --key-file: who is known to sign the shelf"},
      {"unprotected", "", "a shelf that no passphrase protects is meant"},
      {"yes", "", "do not ask"},
      {"json", "", "one JSON document on standard output"},
      {"quiet", "", "only the answer, no progress"},
      {"verbose", "", "say more"},
      {"help", "", "help on this command"},
      {"version", "", "the version"}};
  return kOptions;
}

Args Args::parse(const std::string& command, const std::vector<OptionSpec>& options,
                 const std::vector<std::string>& words) {
  std::vector<OptionSpec> all = options;
  all.insert(all.end(), common_options().begin(), common_options().end());
  cxxopts::Options parser("kestrum " + command);
  std::vector<std::string> names;
  for (const OptionSpec& option : all) {
    names.push_back(option.name);
    if (option.value.empty()) {
      parser.add_options()(option.name, option.help);
    } else {
      // Plain strings, collected below: list values of the library split at commas, and paths have
      // commas in them.
      parser.add_options()(option.name, option.help, cxxopts::value<std::string>());
    }
  }
  std::vector<const char*> argv = {"kestrum"};
  for (const auto& word : words) argv.push_back(word.c_str());
  Args args;
  try {
    auto result = parser.parse(static_cast<int>(argv.size()), argv.data());
    for (const auto& pair : result.arguments()) args.values_[pair.key()].push_back(pair.value());
    args.positional_ = result.unmatched();
  } catch (const cxxopts::exceptions::exception& error) {
    for (const auto& word : words) {
      if (word == "--") break;
      if (!word.starts_with("-") || word == "-") continue;
      std::string name = word.substr(std::min(word.find_first_not_of('-'), word.size()));
      name = name.substr(0, name.find('='));
      if (std::find(names.begin(), names.end(), name) != names.end()) continue;
      std::string ours = other_option(name, names);
      throw Error(ErrorKind::kUsage, "unknown option " + printable(word),
                  ours.empty() ? "kestrum help " + command : "did you mean --" + ours + "?");
    }
    throw Error(ErrorKind::kUsage, error.what(), "kestrum help " + command);
  }
  for (const OptionSpec& option : all) {
    if (!option.repeats && args.list(option.name).size() > 1 && !option.value.empty()) {
      throw Error(ErrorKind::kUsage, "--" + option.name + " is given twice",
                  "kestrum help " + command);
    }
  }
  return args;
}

std::optional<std::string> Args::get(const std::string& name) const {
  auto it = values_.find(name);
  if (it == values_.end()) return std::nullopt;
  return it->second.back();
}

std::optional<unsigned> Args::number(const std::string& name, unsigned least, unsigned most) const {
  auto text = get(name);
  if (!text) return std::nullopt;
  auto value = parse_number(*text, most);
  if (value && *value >= least) return value;
  throw Error(ErrorKind::kUsage, fmt::format("--{}: \"{}\" is not a number from {} to {}", name,
                                             printable(*text), least, most));
}

std::vector<std::string> Args::list(const std::string& name) const {
  auto it = values_.find(name);
  return it == values_.end() ? std::vector<std::string>{} : it->second;
}

Args Args::with_job(const std::string& name) const {
  Args one = *this;
  one.values_.erase("all");
  one.positional_ = {name};
  return one;
}

void Args::expect(std::size_t least, std::size_t most, const std::string& usage) const {
  if (positional_.size() < least) {
    throw Error(ErrorKind::kUsage, "something is missing: " + usage);
  }
  if (positional_.size() > most) {
    throw Error(ErrorKind::kUsage, "one word too many: " + printable(positional_[most]),
                "usage: " + usage);
  }
}

}  // namespace kestrum::cli
