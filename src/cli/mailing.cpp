#include "mailing.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "kestrum/base/host_name.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/mail/outbox.h"
#include "kestrum/mail/smtp.h"
#include "kestrum/report/mail_book.h"
#include "kestrum/report/run_mail.h"
#include "kestrum/system/due_caller.h"

namespace kestrum::cli {
namespace {

constexpr Nanos kMostTime = 15 * kSecond;

// Nothing if none can go out now, and why is told.
std::optional<MailSettings> settings_to_send(const Context& context) {
  auto settings = load_mail_settings(context.home);
  if (!settings) {
    throw Error(ErrorKind::kUsage,
                "no mail can be sent: " + mail_settings_path(context.home) + " is not there",
                "kestrum help job-file says what stands in it");
  }
  if (context.clock.simulated() && !settings->on_this_machine()) {
    throw Error(ErrorKind::kUsage,
                "under KESTRUM_NOW mail goes to servers on this machine only, not to " +
                    printable(settings->server));
  }
  return settings;
}

std::vector<Job> jobs_to_tell(const Context& context,
                              const std::optional<std::vector<std::string>>& names) {
  std::vector<Job> jobs;
  for (const std::string& name : names ? *names : context.jobs().names()) {
    try {
      Job job = context.jobs().load(name);
      if (!job.mail_to.empty() && job.mail_when != "never") jobs.push_back(std::move(job));
    } catch (const Error&) {
      // Whom to tell stands in the file that cannot be read.
    }
  }
  return jobs;
}

std::vector<MailedJob> how_they_stand(const Context& context, const std::vector<Job>& jobs,
                                      const std::vector<RunReport>& reports) {
  std::optional<DueCaller> caller;
  if (!context.clock.simulated()) caller = find_due_caller(context.home);
  std::vector<MailedJob> all;
  for (const Job& job : jobs) {
    MailedJob mailed;
    mailed.status = job_status(context.home, job.name, caller, context.clock);
    for (const RunReport& report : reports) {
      if (report.job == job.name) mailed.run = &report;
    }
    mailed.on_change = mailed.run != nullptr && mailed.run->trigger.starts_with("files changed");
    mailed.names = !job.encrypted;
    mailed.when = job.mail_when;
    mailed.to = job.mail_to;
    all.push_back(std::move(mailed));
  }
  return all;
}

void put_what_is_to_be_told(const Context& context, const std::vector<RunReport>& reports,
                            const std::optional<std::vector<std::string>>& names,
                            const Outbox& outbox) {
  std::vector<Job> jobs = jobs_to_tell(context, names);
  if (jobs.empty()) return;
  MailBook book(context.home);
  std::map<std::string, MailTold> before = book.load(), told;
  std::vector<MailedJob> mailed = how_they_stand(context, jobs, reports);
  std::map<std::vector<std::string>, std::vector<std::pair<const MailedJob*, MailDecision>>>
      by_whom;
  Nanos now = context.clock.now();
  for (const MailedJob& job : mailed) {
    MailDecision decision = decide_mail(job, before[job.status.job], now);
    if (!decision.send) continue;
    told[job.status.job] = decision.told;
    std::vector<std::string> to = job.to;
    std::sort(to.begin(), to.end());
    by_whom[to].emplace_back(&job, decision);
  }
  for (const auto& [to, list] : by_whom) outbox.put(mail_of(list, host_name(), now));
  if (!told.empty()) book.note(told);
}

}  // namespace

void mail_about(const Context& context, const std::vector<RunReport>& reports,
                const std::optional<std::vector<std::string>>& jobs) {
  try {
    Outbox outbox(context.home);
    put_what_is_to_be_told(context, reports, jobs, outbox);
    if (outbox.waiting() == 0) return;
    auto settings = settings_to_send(context);
    Outbox::Sent sent = outbox.send(*settings, kMostTime);
    if (sent.problem.empty()) return;
    context.tell(fmt::format("mail was not sent: {}; {} kept and tried again with the next run",
                             printable(sent.problem),
                             sent.left == 1 ? "it is" : counted(sent.left, "mail") + " are"));
  } catch (const Error& error) {
    context.tell(printable(error.message()));
    if (!error.hint().empty()) context.tell("  " + printable(error.hint()));
  } catch (const std::exception& error) {
    context.tell(std::string("mail was not sent: ") + printable(error.what()));
  }
}

std::optional<std::string> why_no_mail(const Home& home, const Job& job) {
  if (job.mail_to.empty()) return std::nullopt;
  try {
    if (load_mail_settings(home)) return std::nullopt;
    return "nobody is told: " + mail_settings_path(home) + " is not there";
  } catch (const Error& error) {
    return "nobody is told: " + error.message();
  }
}

void mail_now(const Context& context, MailMessage message) {
  auto settings = settings_to_send(context);
  message.id = new_message_id(host_name());
  SendResult result = send_mail(*settings, message, kMostTime);
  if (result.sent) return;
  throw Error(ErrorKind::kFailed,
              printable(settings->server) + " did not take the mail: " + result.reason,
              "what it goes by: " + mail_settings_path(context.home));
}

}  // namespace kestrum::cli
