#include "kestrum/system/unattended.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/json.h"
#include "kestrum/base/text.h"
#include "kestrum/place/address.h"
#include "kestrum/system/process.h"

namespace kestrum {
namespace {

constexpr Nanos kTrialLimit = 10 * kSecond;
// Where a desktop session mounts shares: gone, and unreadable to others, without it.
constexpr const char* kOfASession = "/run/user/";

std::vector<std::string> with_nothing_but(const std::string& path) {
  return {"/usr/bin/env", "-i", "PATH=" + path};
}

// This program, as a timer or cron starts it.
FilterResult start_unattended(const std::string& program, const std::vector<std::string>& arguments,
                              const std::string& home, const std::string& path) {
  std::vector<std::string> words = with_nothing_but(path);
  if (!home.empty()) words.push_back("KESTRUM_HOME=" + home);
  words.push_back(program);
  words.insert(words.end(), arguments.begin(), arguments.end());
  return run_filter({words, "", kTrialLimit});
}

// The program that a command begins with; empty where only the shell could tell.
std::string first_word(const std::string& command) {
  std::string_view rest = trimmed(command);
  for (;;) {
    std::size_t end = rest.find_first_of(" \t\n;&|<>()");
    std::string word(rest.substr(0, end));
    if (word.find_first_of("$`'\"\\*?[{!") != std::string::npos) return "";
    bool assigns = word.find('=') != std::string::npos;
    if (!assigns) return word;
    if (end == std::string_view::npos) return "";
    rest = trimmed(rest.substr(end));
  }
}

void try_command(const std::string& key, const std::string& command, const std::string& path,
                 std::vector<UnattendedProblem>& problems) {
  if (command.empty()) return;
  FilterResult parsed = run_filter({{"/bin/sh", "-n"}, command, kTrialLimit});
  if (!parsed.ok) {
    problems.push_back({key, "no command of a shell: " + parsed.reason});
    return;
  }
  std::string word = first_word(command);
  if (word.empty()) return;
  if (word.starts_with("~")) {
    problems.push_back({key, printable(word) + ": ~ stands for nothing where no HOME is set"});
    return;
  }
  std::vector<std::string> words = with_nothing_but(path);
  for (const char* each : {"/bin/sh", "-c", "command -v -- \"$0\""}) words.emplace_back(each);
  words.push_back(word);
  if (run_filter({words, "", kTrialLimit}).ok) return;
  bool by_path = word.find('/') != std::string::npos;
  problems.push_back({key, printable(word) + (by_path ? ": cannot be started"
                                                      : ": not found in PATH=" + path +
                                                            "; name it with its folder")});
}

}  // namespace

std::vector<UnattendedProblem> try_unattended(const Job& job, const std::string& path) {
  std::vector<UnattendedProblem> problems;
  try_command("before_run.command", job.before_run.text, path, problems);
  try_command("after_run.command", job.after_run.text, path, problems);
  const std::string& secret = job.passphrase_from;
  if (!secret.empty()) {
    bool whole = secret.front() == '/';
    Fd fd(whole ? ::open(secret.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOCTTY) : -1);
    if (!whole) {
      problems.push_back({"protection.passphrase_from", "must be an absolute path"});
    } else if (!fd) {
      problems.push_back(
          {"protection.passphrase_from", printable(secret) + ": " + errno_text(errno)});
    }
  }
  bool needs_secret = !job.checks.drill_when.empty() && job.encrypted;
  if (needs_secret && secret.empty()) {
    problems.push_back({"checks.drill_when", "a drill needs protection.passphrase_from"});
  }
  return problems;
}

std::vector<UnattendedProblem> try_places_unattended(const Job& job, const std::string& program,
                                                     const std::string& home,
                                                     const std::string& path) {
  std::vector<UnattendedProblem> problems;
  FilterResult result =
      start_unattended(program, {"shelf", "list", job.name, "--json"}, home, path);
  Json told = result.ok ? Json::parse(result.output, nullptr, false) : Json();
  if (!told.is_object()) {
    problems.push_back({"destination.places", result.ok ? "no answer" : result.reason});
    return problems;
  }
  bool one_works = false;
  for (const Json& shelf : told["shelves"]) {
    if (!shelf["problem"].is_null()) {
      problems.push_back({"destination.places", shelf["problem"].get<std::string>()});
      continue;
    }
    std::string folder = shelf["shelf"].get<std::string>();
    one_works = is_remote(folder) || ::access(folder.c_str(), W_OK) == 0;
    if (one_works) break;
    problems.push_back(
        {"destination.places", printable(folder) + ": cannot be written to: " + errno_text(errno)});
  }
  if (one_works) problems.clear();
  for (const std::string& place : job.places) {
    if (!place.starts_with(kOfASession)) continue;
    problems.push_back({"destination.places", printable(place) +
                                                  ": is there only while somebody is logged in; "
                                                  "mount the share by /etc/fstab"});
  }
  return problems;
}

std::string why_not_started(const std::string& program, const std::string& home,
                            const std::string& path) {
  FilterResult result = start_unattended(program, {"job", "list"}, home, path);
  return result.ok ? "" : result.reason;
}

}  // namespace kestrum
