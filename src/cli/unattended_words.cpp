#include "unattended_words.h"

#include <algorithm>
#include <filesystem>

#include "kestrum/base/text.h"
#include "kestrum/mail/smtp.h"
#include "kestrum/system/system_timer.h"

namespace kestrum::cli {
namespace {

constexpr Nanos kServerLimit = 10 * kSecond;

const char* path_here() {
  auto system = timer_system();
  return system && *system == TimerSystem::kSystemd ? kServicePath : kCronPath;
}

std::string this_program() {
  return std::filesystem::read_symlink("/proc/self/exe").string();
}

}  // namespace

std::vector<UnattendedProblem> unattended_problems(const Context& context, const Job& job) {
  std::vector<UnattendedProblem> problems = try_unattended(job, path_here());
  auto of_places =
      try_places_unattended(job, this_program(), home_in_units(context.home), path_here());
  problems.insert(problems.end(), of_places.begin(), of_places.end());
  return problems;
}

std::string why_no_mail_server(const Context& context) {
  try {
    auto settings = load_mail_settings(context.home);
    if (!settings || (context.clock.simulated() && !settings->on_this_machine())) return "";
    std::string why = why_no_server(*settings, kServerLimit);
    return why.empty() ? "" : printable(settings->server) + ": " + why;
  } catch (const Error& error) {
    return error.message();
  }
}

std::vector<std::string> all_unattended_problems(const Context& context) {
  std::vector<std::string> lines;
  std::string why = why_not_started(this_program(), home_in_units(context.home), path_here());
  if (!why.empty()) return {"without HOME and the like it finds no jobs: " + why};
  bool mails = false;
  for (const std::string& name : context.jobs().names()) {
    Job job = context.jobs().parse(name).job;
    mails |= !job.mail_to.empty();
    for (const UnattendedProblem& problem : unattended_problems(context, job)) {
      lines.push_back(name + ": " + problem.key + ": " + problem.text);
    }
  }
  if (mails) why = why_no_mail_server(context);
  if (mails && !why.empty()) lines.push_back("mail.toml: " + why);
  return lines;
}

}  // namespace kestrum::cli
