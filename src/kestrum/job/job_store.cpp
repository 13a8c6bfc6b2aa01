#include "kestrum/job/job_store.h"

#include <unistd.h>

#include <algorithm>
#include <array>
#include <cstdlib>

#include "kestrum/base/file.h"
#include "kestrum/base/own_file.h"
#include "kestrum/base/text.h"
#include "kestrum/job/edit_key.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kJobFileLimit = 1 << 20;

std::string environment(const char* name) {
  const char* value = std::getenv(name);
  return value == nullptr ? "" : value;
}

}  // namespace

Home Home::find(const std::string& home_option) {
  std::string home = home_option.empty() ? environment("KESTRUM_HOME") : home_option;
  if (!home.empty()) {
    home = absolute_path(home);
    return {home, home + "/state"};
  }
  return usual();
}

Home Home::usual() {
  if (::geteuid() == 0) return {"/etc/kestrum", "/var/lib/kestrum"};
  auto xdg = [](const char* variable, const char* fallback) {
    std::string base = environment(variable);
    if (base.empty() || base[0] != '/') base = environment("HOME") + fallback;
    return base + "/kestrum";
  };
  return {xdg("XDG_CONFIG_HOME", "/.config"), xdg("XDG_STATE_HOME", "/.local/state")};
}

void Home::require_own() const {
  for (const std::string& folder : {config, jobs(), state}) kestrum::require_own(folder);
}

std::optional<std::string> bad_job_name(const std::string& name) {
  auto alnum = [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9');
  };
  if (name.empty()) return "a job needs a name";
  if (name.size() > 64) return "a job's name has at most 64 characters";
  if (!std::all_of(name.begin(), name.end(),
                   [&](char c) { return alnum(c) || c == '-' || c == '_' || c == '.'; })) {
    return "a job's name has only letters, digits, '-', '_' and '.'";
  }
  if (!alnum(name[0])) return "a job's name begins with a letter or a digit";
  if (name.back() == '.') return "a job's name does not end with '.'";
  std::string stem = lower_ascii(name.substr(0, name.find('.')));
  bool numbered = stem.size() == 4 && stem[3] >= '1' && stem[3] <= '9' &&
                  (stem.starts_with("com") || stem.starts_with("lpt"));
  if (numbered || stem == "con" || stem == "prn" || stem == "aux" || stem == "nul") {
    return "some systems keep this name for a device";
  }
  return std::nullopt;
}

std::vector<std::string> JobStore::names() const {
  std::vector<std::string> names;
  if (!is_folder(home_.jobs())) return names;
  for (const auto& file : list_folder(home_.jobs())) {
    if (!file.ends_with(".toml")) continue;
    std::string name = file.substr(0, file.size() - 5);
    if (!bad_job_name(name)) names.push_back(std::move(name));
  }
  return names;
}

bool JobStore::has(const std::string& name) const {
  return !bad_job_name(name) && path_exists(path(name));
}

Error JobStore::unknown(const std::string& name) const {
  auto all = names();
  auto near = nearest_word(name, all);
  std::string hint = near          ? "did you mean " + *near + "?"
                     : all.empty() ? "to define one: kestrum job new NAME"
                                   : "all jobs: kestrum job list";
  Error error(ErrorKind::kUsage, "no job named " + printable(name), hint);
  error.about_job(name);
  return error;
}

ParsedJob JobStore::parse(const std::string& name) const {
  if (!has(name)) throw unknown(name);
  require_own(path(name));
  return parse_job(name, read_file(path(name), kJobFileLimit));
}

Job JobStore::load(const std::string& name, std::vector<JobProblem>* warnings) const {
  ParsedJob parsed = parse(name);
  for (const JobProblem& problem : parsed.problems) {
    if (problem.error) {
      throw Error(ErrorKind::kUsage, path(name) + ": " + problem.text(),
                  "kestrum job check " + name)
          .about_job(name)
          .about_path(path(name));
    }
    if (warnings != nullptr) warnings->push_back(problem);
  }
  return std::move(parsed.job);
}

bool JobStore::edit(const std::string& name,
                    const std::vector<std::pair<std::string, KeyValue>>& values) const {
  std::string file = home_.jobs() + "/" + name + ".toml", before = read_file(file), text = before;
  for (const auto& [key, value] : values) text = edit_key(text, key, value);
  if (text == before) return false;
  write_file(file, text);
  return true;
}

void JobStore::check_new_name(const std::string& name) const {
  if (auto why = bad_job_name(name)) {
    throw Error(ErrorKind::kUsage, "\"" + printable(name) + "\": " + *why);
  }
  for (const auto& other : names()) {
    if (lower_ascii(other) == lower_ascii(name)) {
      throw Error(ErrorKind::kUsage, "there is a job named " + other + " already",
                  "kestrum job show " + other)
          .about_job(other);
    }
  }
}

void JobStore::create(const std::string& name, const std::string& toml) const {
  check_new_name(name);
  make_folders(home_.jobs());
  write_file(path(name), toml);
}

}  // namespace kestrum
