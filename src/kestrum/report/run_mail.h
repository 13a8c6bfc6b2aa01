// What is mailed about jobs, and when: once what happened, then not again before a day is over, and
// once that it is fine again.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "kestrum/inspect/job_status.h"
#include "kestrum/machine/run_report.h"
#include "kestrum/mail/message.h"
#include "kestrum/report/pages.h"

namespace kestrum {

// How a job stands, and the run that was just done.
struct MailedJob {
  JobStatus status;
  const RunReport* run = nullptr;  // nothing: it did not run
  bool on_change = false;          // it ran since files changed
  bool names = false;              // of an unprotected job: files may be named
  std::string when;                // the job's mail_when
  std::vector<std::string> to;
};

// What was told last of a job.
struct MailTold {
  std::string what;  // the state and what its reasons are about
  Nanos when = 0;    // by the calendar; 0: never
  StatusLevel level = StatusLevel::kFine;
};

// Whether to tell it now, and as what it is remembered. A pure decision.
struct MailDecision {
  bool send = false;
  bool fine_again = false;
  MailTold told;
};
MailDecision decide_mail(const MailedJob& job, const MailTold& before, Nanos now);

// One message for jobs with the same recipients; at least one.
MailMessage mail_of(const std::vector<std::pair<const MailedJob*, MailDecision>>& jobs,
                    const std::string& host, Nanos now);

// A report's page with its answer.
MailMessage mail_of_report(const Report& report, const std::string& to, const std::string& host,
                           Nanos now);
// To see whether any arrives.
MailMessage trial_mail(const std::vector<std::string>& to, const std::string& host, Nanos now);

}  // namespace kestrum
