#include "kestrum/report/run_mail.h"

#include <ctemplate/template.h>
#include <fmt/format.h>

#include <algorithm>

#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/report/expand.h"
#include "kestrum/report/palette.h"
#include "kestrum/report/templates.h"
#include "kestrum/report/words.h"

namespace kestrum {
namespace {

constexpr Nanos kSameAgainAfter = kDay;
constexpr Nanos kOnChangeAtMost = kHour;  // one in
constexpr std::size_t kWarningsNamed = 20;
constexpr std::size_t kJobsInSubject = 3;
constexpr std::size_t kReasonColumns = 70;

std::string counted_warnings(const RunReport& run) {
  if (run.files.failed > 0) return counted(run.files.failed, "file");
  return counted(run.warning_count, "warning");
}

// "studio done with warnings (3 files)".
std::string job_in_subject(const MailedJob& job, const MailDecision& decision) {
  const JobStatus& status = job.status;
  if (decision.fine_again) return status.job + " fine again";
  if (job.run != nullptr) {
    std::string text = status.job + " " + outcome_name(job.run->outcome);
    if (job.run->outcome == Outcome::kDoneWithWarnings && job.run->warning_count > 0) {
      text += " (" + counted_warnings(*job.run) + ")";
    }
    bool made = job.run->set.has_value();
    if (made && status.level == StatusLevel::kCritical) text += ", but in trouble";
    return text;
  }
  std::vector<std::string> reasons = status.reasons(false);
  std::string why = reasons.empty() ? "" : reasons.front();
  why = why.substr(0, why.find(": kestrum "));
  std::string state = status.level == StatusLevel::kCritical ? " in trouble" : " to heed";
  return status.job + state + (why.empty() ? "" : ": " + shortened(printable(why), kReasonColumns));
}

std::string headline(const MailedJob& job, const MailDecision& decision) {
  if (decision.fine_again) return job.status.job + ": fine again";
  if (job.run == nullptr)
    return fmt::format("{}: {}", job.status.job, state_name(job.status.level));
  return fmt::format("{}: {}", job.status.job, outcome_name(job.run->outcome));
}

std::vector<std::string> run_lines(const RunReport& run, bool names) {
  std::vector<std::string> lines;
  if (run.set) {
    lines.push_back(fmt::format("{}, {}: {} copied, {}; {} stored in {}", run.set->to_string(),
                                kind_name(*run.kind), counted(run.files.copied, "file"),
                                format_size(run.bytes.copied), format_size(run.bytes.stored),
                                format_duration(static_cast<Nanos>(run.seconds * kSecond))));
  } else if (names && !run.reason.empty()) {
    lines.push_back(printable(run.reason));
  }
  if (run.files.failed > 0)
    lines.push_back(counted(run.files.failed, "file") + " could not be read");
  if (run.warning_count > 0) {
    lines.push_back(fmt::format("{}: kestrum history {} --show {}",
                                counted(run.warning_count, "warning"), run.job,
                                run_number(run.run)));
  }
  if (!names) return lines;
  for (std::size_t i = 0; i < std::min(kWarningsNamed, run.warnings.size()); ++i) {
    const Warning& warning = run.warnings[i];
    lines.push_back("  " + printable(warning.path.empty() ? warning.reason
                                                          : warning.path + ": " + warning.reason));
  }
  return lines;
}

StatusLevel level_of(const MailedJob& job) {
  StatusLevel level = job.status.level;
  if (job.run == nullptr) return level;
  if (job.run->outcome == Outcome::kFailed) return StatusLevel::kCritical;
  bool clean = job.run->outcome == Outcome::kDone || job.run->outcome == Outcome::kSkipped;
  return clean ? level : std::max(level, StatusLevel::kWarning);
}

constexpr const char* kLevelColours[] = {"good", "heed", "trouble"};

std::string colour_code(StatusLevel level) {
  return std::string(light_code(kLevelColours[static_cast<int>(level)]));
}

// A headline with lines below it.
MailMessage plain_mail(const std::string& subject, const std::string& head,
                       const std::vector<std::string>& lines, StatusLevel level) {
  MailMessage message;
  message.subject = subject;
  ctemplate::TemplateDictionary page("mail");
  page.SetValue("SUBJECT", subject);
  ctemplate::TemplateDictionary* part = page.AddSectionDictionary("JOB_PART");
  part->SetValue("HEADLINE", head);
  part->SetValue("COLOUR", colour_code(level));
  message.text = head + "\n";
  for (const std::string& line : lines) {
    message.text += "  " + line + "\n";
    part->AddSectionDictionary("LINE")->SetValue("TEXT", line);
  }
  message.html = expand_page(template_text("mail.html"), page);
  return message;
}

}  // namespace

MailDecision decide_mail(const MailedJob& job, const MailTold& before, Nanos now) {
  MailDecision decision;
  StatusLevel level = level_of(job);
  std::string what = state_name(level);
  std::vector<std::string> kinds = job.status.kinds;
  std::sort(kinds.begin(), kinds.end());
  for (const std::string& kind : kinds) what += "; " + kind;
  decision.told = before;
  if (job.when == "never" || job.to.empty()) return decision;
  // It was made and has not come due yet: that is nobody's news.
  bool not_begun = job.run == nullptr && job.status.last_run == 0 && job.status.problems.empty() &&
                   job.status.waiting_since == 0;
  if (not_begun) return decision;
  bool every_run = job.when == "always" && job.run != nullptr;
  StatusLevel least = job.when == "trouble" ? StatusLevel::kCritical : StatusLevel::kWarning;
  Nanos since = now - before.when;
  bool told_lately = before.when != 0 && since >= 0 && since < kSameAgainAfter;
  if (level == StatusLevel::kFine) {
    decision.fine_again = before.level != StatusLevel::kFine;
    decision.send = decision.fine_again || every_run;
  } else if (level >= least || every_run) {
    // A run that went as the last one did tells nothing new, unless each is to be told.
    bool same = before.what == what;
    decision.send = every_run || !same || !told_lately;
  }
  if (job.on_change && before.when != 0 && since >= 0 && since < kOnChangeAtMost) {
    decision.send = false;
    decision.fine_again = false;
  }
  if (decision.send) decision.told = {what, now, level};
  return decision;
}

MailMessage mail_of(const std::vector<std::pair<const MailedJob*, MailDecision>>& jobs,
                    const std::string& host, Nanos now) {
  auto sorted = jobs;
  std::stable_sort(sorted.begin(), sorted.end(), [](const auto& a, const auto& b) {
    return level_of(*a.first) > level_of(*b.first);
  });
  MailMessage message;
  message.to = sorted.front().first->to;
  message.made = now;
  message.id = new_message_id(host);
  std::string named;
  for (std::size_t i = 0; i < std::min(kJobsInSubject, sorted.size()); ++i) {
    named += (i == 0 ? "" : ", ") + job_in_subject(*sorted[i].first, sorted[i].second);
  }
  if (sorted.size() > kJobsInSubject)
    named += fmt::format(", {} more", sorted.size() - kJobsInSubject);
  message.subject = fmt::format("Kestrum: {} on {}", named, host);

  ctemplate::TemplateDictionary page("mail");
  page.SetValue("SUBJECT", message.subject);
  for (const auto& [job, decision] : sorted) {
    ctemplate::TemplateDictionary* part = page.AddSectionDictionary("JOB_PART");
    std::string head = headline(*job, decision);
    part->SetValue("HEADLINE", head);
    part->SetValue("COLOUR", colour_code(level_of(*job)));
    message.text += head + "\n";
    auto add_line = [&](const std::string& line) {
      message.text += "  " + line + "\n";
      part->AddSectionDictionary("LINE")->SetValue("TEXT", line);
    };
    if (job->run != nullptr) {
      for (const std::string& line : run_lines(*job->run, job->names)) add_line(line);
    }
    ctemplate::TemplateDictionary* list = nullptr;
    for (const std::string& reason : job->status.reasons(job->names)) {
      if (list == nullptr) list = part->AddSectionDictionary("REASONS");
      message.text += "  - " + printable(reason) + "\n";
      list->AddSectionDictionary("REASON")->SetValue("TEXT", printable(reason));
    }
    if (job->status.level == StatusLevel::kFine) add_line(state_in_words(job->status, now));
    message.text += "\n";
  }
  std::string foot = "More: kestrum status, on " + host;
  message.text += foot + "\n";
  page.SetValue("FOOT", foot);
  message.html = expand_page(template_text("mail.html"), page);
  return message;
}

MailMessage mail_of_report(const Report& report, const std::string& to, const std::string& host,
                           Nanos now) {
  std::string answer = report.answer;
  if (answer.ends_with('.')) answer.pop_back();
  std::vector<std::string> lines = report.lines;
  lines.push_back("The page is attached: open it in a browser.");
  MailMessage message = plain_mail(fmt::format("Kestrum: {}, told by {}", answer, host),
                                   report.answer, lines, report.worst);
  message.to = {to};
  message.made = now;
  message.page_name = "backups.html";
  message.page = report.files.front().content;
  return message;
}

MailMessage trial_mail(const std::vector<std::string>& to, const std::string& host, Nanos now) {
  MailMessage message =
      plain_mail("Kestrum: a trial from " + host, "Mail of Kestrum arrives here.",
                 {"Sent by kestrum report --try-mail, on " + host + "."}, StatusLevel::kFine);
  message.to = to;
  message.made = now;
  return message;
}

}  // namespace kestrum
