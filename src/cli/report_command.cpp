// report: a page with figures, of this PC's jobs or of the shelves of many PCs.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "command.h"
#include "fleet_words.h"
#include "kestrum/base/file.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/named_file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/job_facts.h"
#include "kestrum/report/pages.h"
#include "kestrum/report/run_mail.h"
#include "kestrum/system/due_caller.h"
#include "mailing.h"
#include "state_words.h"

namespace kestrum::cli {
namespace {

constexpr const char* kReportUsage =
    "kestrum report [NAME...] --out DIR [--shelves DIR [--expect FILE]] [--mail-to ADDRESS]";

std::vector<JobFacts> facts_of_jobs(const Context& context, std::vector<std::string> names) {
  if (names.empty()) names = context.jobs().names();
  std::optional<DueCaller> caller;
  if (!context.clock.simulated()) caller = find_due_caller(context.home);
  std::vector<JobFacts> jobs;
  for (const std::string& name : names) {
    if (!context.jobs().has(name)) context.jobs().load(name);  // says that there is no such job
    jobs.push_back(job_facts(context.home, name, caller, context.clock));
  }
  return jobs;
}

void write_files(const std::string& folder, const Report& report) {
  make_named_folder(folder);
  for (const ReportFile& file : report.files) {
    write_named_file(folder + "/" + file.name, file.content);
  }
}

void tell_report(const Context& context, const Report& report,
                 const std::optional<std::string>& out, const std::optional<std::string>& address) {
  std::string page = out ? absolute_path(*out) + "/" + report.files.front().name : "";
  if (context.json) {
    Json files = Json::array();
    for (const ReportFile& file : report.files) files.push_back(file.name);
    Json document = {{"state", state_name(report.worst)},
                     {"answer", report.answer},
                     {"files", files},
                     {"problems", report.problems},
                     {"mailed_to", address ? Json(*address) : Json(nullptr)},
                     {"path", nullptr}};
    if (out) {
      document.erase("path");
      put_name(document, "path", page);
    }
    context.print_json(document);
    return;
  }
  context.say(report.answer);
  if (out) {
    context.data("wrote ", printable(page),
                 fmt::format(" and {} beside it", counted(report.files.size() - 1, "file")));
  }
  if (address) context.say("mailed to " + *address);
}

// To one address, or to all that the jobs name.
int try_mail(const Context& context, const Args& args) {
  args.expect(0, 0, "kestrum report --try-mail [--mail-to ADDRESS]");
  std::vector<std::string> to;
  if (auto address = args.get("mail-to")) {
    to.push_back(*address);
  } else {
    for (const std::string& name : context.jobs().names()) {
      for (const std::string& one : context.jobs().parse(name).job.mail_to) {
        if (std::find(to.begin(), to.end(), one) == to.end()) to.push_back(one);
      }
    }
  }
  if (to.empty()) {
    throw Error(
        ErrorKind::kUsage, "to whom? no job names an address",
        "kestrum report --try-mail --mail-to ADDRESS, or kestrum job set NAME report.mail_to "
        "ADDRESS");
  }
  mail_now(context, trial_mail(to, host_name(), context.clock.now()));
  if (context.json) {
    context.print_json({{"mailed_to", to}});
  } else {
    context.say(fmt::format("the server took a trial mail to {}", fmt::join(to, ", ")));
    context.say("Whether it arrives, only a look there tells.");
  }
  return 0;
}

}  // namespace

int write_report(const Context& context, const Args& args) {
  if (args.has("try-mail")) return try_mail(context, args);
  auto out = args.get("out"), address = args.get("mail-to");
  if (!out && !address) {
    throw Error(ErrorKind::kUsage, "where to? add --out DIR or --mail-to ADDRESS", kReportUsage);
  }
  if (address && !is_mail_address(*address)) {
    throw Error(ErrorKind::kUsage, "--mail-to: \"" + printable(*address) + "\" is no mail address");
  }
  Nanos now = context.clock.now();
  Report report;
  std::vector<JobFacts> jobs;
  if (args.has("shelves")) {
    args.expect(0, 0, kReportUsage);
    FleetRequest request = fleet_request(context, args);
    report = fleet_report(look_at_shelves(context.machine(), request), request.folder, now);
  } else {
    if (args.has("expect"))
      throw Error(ErrorKind::kUsage, "--expect needs --shelves DIR", kReportUsage);
    jobs = facts_of_jobs(context, args.positional());
    if (out) report = job_report(jobs, now);
  }
  if (address) {
    // A mail passes through other hands: without names of files.
    for (JobFacts& facts : jobs) remove_names(facts);
    Report mailed = args.has("shelves") ? report : job_report(std::move(jobs), now);
    mail_now(context, mail_of_report(mailed, *address, host_name(), now));
    if (!out) report = std::move(mailed);
  }
  if (out) write_files(absolute_path(*out), report);
  tell_report(context, report, out, address);
  for (const std::string& problem : report.problems) context.tell(printable(problem));
  return report.problems.empty() ? 0 : 1;
}

}  // namespace kestrum::cli
