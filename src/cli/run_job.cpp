#include "run_job.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/backup/backup.h"
#include "kestrum/base/file.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/job/job_file.h"
#include "kestrum/system/power.h"
#include "kestrum/system/scheduler.h"
#include "left_out_words.h"
#include "mailing.h"
#include "progress_line.h"
#include "questions.h"
#include "run_log.h"
#include "table.h"

namespace kestrum::cli {
namespace {

class TerminalAndLog : public Observer {
 public:
  TerminalAndLog(const Context& context, RunLog& log, Job::LogDetail detail)
      : context_(context), log_(log), detail_(detail), line_(context.quiet) {}

  bool wants_totals() const override { return line_.is_live(); }
  void progress(const Progress& progress) override { line_.show(progress); }
  void warning(const std::string& path, const std::string& reason) override {
    std::string text = path.empty() ? reason : path + ": " + reason;
    log_.warning(text);
    if (context_.verbose) tell(printable(text));
  }
  void note(const std::string& text) override {
    log(text);
    tell(printable(text));
  }
  void log(const std::string& text) override {
    if (detail_ != Job::LogDetail::kShort) log_.line(text);
  }
  bool wants_files() const override { return detail_ == Job::LogDetail::kEveryFile; }
  void file(const char* what, const std::string& path, std::uint64_t bytes) override {
    log_.line(fmt::format("{}: {} ({})", what, path, format_size(bytes)));
  }
  void end() { line_.clear(); }

 private:
  void tell(const std::string& text) {
    line_.clear();
    if (!context_.quiet) context_.tell(text);
  }
  const Context& context_;
  RunLog& log_;
  Job::LogDetail detail_;
  ProgressLine line_;
};

constexpr std::size_t kWarningsShown = 5;

const char* outcome_colour(Outcome outcome) {
  return outcome == Outcome::kDone               ? kGreen
         : outcome == Outcome::kDoneWithWarnings ? kMagenta
                                                 : kRed;
}

void print_counts(const RunReport& report) {
  const FileCounts& f = report.files;
  Table table("<>>");
  table.add({"", "files", "bytes"});
  table.add({"seen", format_count(f.seen), format_size(report.bytes.seen)});
  table.add({"copied", format_count(f.copied), format_size(report.bytes.copied)});
  for (auto [name, count] : {std::pair{"moved", f.moved},
                             {"same", f.same},
                             {"gone", f.gone},
                             {"absent", f.absent},
                             {"failed", f.failed}}) {
    if (count > 0) table.add({name, format_count(count), ""});
  }
  fmt::print("{}", table.text());
}

void print_report(const Context& context, const RunReport& report, const std::string& log_path) {
  std::string outcome = coloured(outcome_name(report.outcome), outcome_colour(report.outcome));
  if (!report.set) {
    // Why is an error's business: message and hint go to standard error.
    context.say(fmt::format("{}: {}", report.job, outcome));
    if (report.outcome != Outcome::kStopped) context.tell(printable(report.reason));
    if (!report.hint.empty()) context.tell("  " + printable(report.hint));
    if (report.kept_parts > 0) {
      context.say(fmt::format("  kept: {}, {}; the next run goes on from there",
                              counted(report.kept_parts, "part"), format_size(report.kept_bytes)));
    }
    return;
  }
  std::string based = report.based_on ? " on " + report.based_on->to_string() : "";
  context.say(fmt::format("{}: {}. {} is {} {} set{}, {} stored in {}", report.job, outcome,
                          report.set->to_string(),
                          *report.kind == SetKind::kIncremental ? "an" : "a",
                          kind_name(*report.kind), based, format_size(report.bytes.stored),
                          format_duration(static_cast<Nanos>(report.seconds * kSecond))));
  if (report.suspect_since) {
    std::string first = report.suspect_since->to_string();
    context.say(coloured(
        report.suspect ? "  SUSPECT: " + report.suspect_why : "  SUSPECT since " + first, kRed));
    std::string on = shell_option("on", report.on);
    if (report.before_suspect) {
      std::string before = report.before_suspect->to_string();
      context.say("  What changed: kestrum compare " + report.job + " --point " + before +
                  " --with " + first + on);
      context.say("  To get files back: kestrum restore " + report.job + " PATH --point " + before +
                  " --to DIR" + on);
    } else {
      context.say("  What it holds: kestrum look " + report.job + " --point " + first + on);
    }
    context.say("  If it is all right: kestrum trust " + report.job + " " + first +
                " --because TEXT" + on);
    context.say("  Until then nothing is pruned.");
  }
  if (context.quiet) return;
  context.say("  why: " + report.why);
  context.say();
  print_counts(report);
  if (std::string words = left_out_words(report.left_out); !words.empty())
    context.say("  " + words);
  if (!report.pruned.empty()) {
    std::string sets;
    for (const auto& set : report.pruned) sets += (sets.empty() ? "" : ", ") + set;
    context.say("  pruned, as no promise holds them: " + shortened(sets, 64));
  }
  context.data("  at ", printable(report.shelf_path));
  std::vector<Warning> warnings = report.warnings;
  std::size_t told = 0;  // above, that it is suspect
  if (report.suspect_since) {
    told = std::erase_if(warnings, [&](const Warning& warning) {
      return warning.path.empty() &&
             warning.reason.starts_with(report.suspect_since->to_string() + " is SUSPECT");
    });
  }
  if (std::size_t count = report.warning_count - told; count > 0) {
    context.say();
    context.say(fmt::format("{}:", counted(count, "warning")));
    for (std::size_t i = 0; i < std::min(kWarningsShown, warnings.size()); ++i) {
      const Warning& warning = warnings[i];
      if (warning.path.empty()) {
        context.say("  " + printable(warning.reason));
      } else {
        context.data("  ", printable(warning.path), ": " + printable(warning.reason));
      }
    }
    if (count > kWarningsShown) {
      context.say(fmt::format("  and {} more in {}", count - kWarningsShown, log_path));
    }
  }
}

}  // namespace

std::optional<SetKind> wanted_kind(const Args& args) {
  auto text = args.get("kind");
  if (!text) return std::nullopt;
  auto kind = parse_kind(*text);
  if (kind) return kind;
  throw Error(ErrorKind::kUsage, "--kind: \"" + printable(*text) + "\" is not a kind",
              "full, incremental or differential");
}

RunReport run_job(const Context& context, const Args& args, const RunRequest& request) {
  std::vector<JobProblem> problems;
  Job job = context.jobs().load(request.job, &problems);
  RunLog log(context.machine(), job.name, context.clock.now());
  TerminalAndLog observer(context, log, job.log_detail);
  log.line("kestrum " KESTRUM_VERSION ", job " + job.name + ", " + request.trigger);
  BackupOptions options;
  for (const JobProblem& problem : problems) {
    std::string said = job.name + ": " + problem.text();
    if (problem.no_effect) {
      options.warnings.push_back(said);
    } else {
      observer.note(said);
    }
  }
  if (auto no_mail = why_no_mail(context.home, job)) {
    options.warnings.push_back(job.name + ": report.mail_to: " + *no_mail);
  }
  options.run = log.run();
  options.trigger = request.trigger;
  options.job_text = read_file(context.jobs().path(job.name));
  options.kind = request.kind;
  options.on_place = request.on_place;
  options.reread = request.reread;
  options.no_verify = request.no_verify;
  options.accept_empty = request.accept_empty;
  options.stop = stop_requested;
  options.passphrase = [&] { return find_passphrase(args, job.name, job.passphrase_from, false); };
  if (request.by_hand && can_ask(context)) {
    options.next_disk = [&](const Error& why) {
      observer.end();
      context.tell(printable(why.message()));
      const char* question = "Plug it in and press Enter (\"stop\": go on another time)";
      return ask(question, "go on") != "stop";
    };
  }
  RunReport report = run_backup(context.machine(), job, options, context.clock, observer);
  observer.end();
  try {
    log.finish(report, job.keep_records);
    Scheduler(context.home, context.clock).ended(job.name, report, request.by_hand);
  } catch (const Error& error) {  // what the run did is told all the same
    report.warn_after_end("the run could not be recorded: " + error.message());
  }
  if (!context.json) print_report(context, report, log.path());
  return report;
}

RunReport record_skipped(const Context& context, const Job& job, const std::string& reason,
                         int exit) {
  RunLog log(context.machine(), job.name, context.clock.now());
  RunReport report;
  report.run = log.run();
  report.job = job.name;
  report.host = host_name();
  report.started = report.finished = context.clock.now();
  report.outcome = Outcome::kSkipped;
  report.exit = exit;
  report.reason = reason;
  report.trigger = "schedule";
  log.finish(report, job.keep_records);
  return report;
}

std::optional<std::string> wants_power_off(const Context& context,
                                           const std::vector<RunReport>& reports) {
  for (const RunReport& report : reports) {
    if (!report.set || stop_requested()) continue;
    if (context.jobs().load(report.job).power_off) return report.job;
  }
  return std::nullopt;
}

void power_off_after(const Context& context, const std::vector<RunReport>& reports) {
  auto job = wants_power_off(context, reports);
  if (!job) return;
  ask_power_off("Kestrum: " + *job + " is backed up; this PC powers off");
  context.tell("This PC powers off in a minute. To keep it on: shutdown -c");
}

}  // namespace kestrum::cli
