#include <fmt/format.h>

#include "command.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/engine/backup.h"
#include "progress_line.h"
#include "run_log.h"
#include "table.h"

namespace kestrum::cli {
namespace {

class TerminalAndLog : public Observer {
 public:
  TerminalAndLog(const Context& context, RunLog& log)
      : context_(context), log_(log), line_(context.quiet) {}

  bool wants_totals() const override { return line_.is_live(); }
  void progress(const Progress& progress) override { line_.show(progress); }
  void warning(const std::string& path, const std::string& reason) override {
    log_.warning(path + ": " + reason);
    if (context_.verbose) tell(printable(path) + ": " + reason);
  }
  void note(const std::string& text) override {
    log_.line(text);
    tell(printable(text));
  }
  void end() { line_.clear(); }

 private:
  void tell(const std::string& text) {
    line_.clear();
    if (!context_.quiet) context_.tell(text);
  }
  const Context& context_;
  RunLog& log_;
  ProgressLine line_;
};

constexpr std::size_t kWarningsShown = 5;

const char* outcome_colour(Outcome outcome) {
  return outcome == Outcome::kDone               ? kGreen
         : outcome == Outcome::kDoneWithWarnings ? kYellow
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
                             {"left out", f.left_out},
                             {"failed", f.failed}}) {
    table.add({name, format_count(count), ""});
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
    return;
  }
  std::string based = report.based_on ? " on " + report.based_on->to_string() : "";
  context.say(fmt::format("{}: {}. {} is {} {} set{}, {} stored in {}", report.job, outcome,
                          report.set->to_string(),
                          *report.kind == SetKind::kIncremental ? "an" : "a",
                          kind_name(*report.kind), based, format_size(report.bytes.stored),
                          format_duration(static_cast<Nanos>(report.seconds * kSecond))));
  if (context.quiet) return;
  context.say("  why: " + report.why);
  context.say();
  print_counts(report);
  std::string rules;
  for (std::size_t i = 0; i < kRules; ++i) {
    const RuleCount& count = report.left_out[i];
    if (count.files + count.folders == 0) continue;
    std::string what = count.files > 0 ? counted(count.files, "file") : "";
    if (count.folders > 0) what += (what.empty() ? "" : " and ") + counted(count.folders, "folder");
    rules +=
        fmt::format("{}{} {}", rules.empty() ? "" : ", ", rule_name(static_cast<Rule>(i)), what);
  }
  if (!rules.empty()) context.say("  left out by " + rules);
  context.say("  at " + printable(report.shelf_path));
  if (report.warning_count > 0) {
    context.say();
    context.say(fmt::format("{}:", counted(report.warning_count, "warning")));
    for (std::size_t i = 0; i < std::min(kWarningsShown, report.warnings.size()); ++i) {
      context.say(fmt::format("  {}: {}", printable(report.warnings[i].path),
                              printable(report.warnings[i].reason)));
    }
    if (report.warning_count > kWarningsShown) {
      context.say(
          fmt::format("  and {} more in {}", report.warning_count - kWarningsShown, log_path));
    }
  }
}

RunReport run_one(const Context& context, const Args& args, const std::string& name) {
  std::vector<JobProblem> unknown_keys;
  Job job = context.jobs().load(name, &unknown_keys);
  std::string text = read_file(context.jobs().path(name));
  RunLog log(context.machine(), name, context.clock.now());
  TerminalAndLog observer(context, log);
  log.line("kestrum " KESTRUM_VERSION ", job " + name);
  for (const JobProblem& problem : unknown_keys) observer.note(name + ": " + problem.text());

  BackupOptions options;
  if (auto kind = args.get("kind")) options.kind = parse_kind(*kind);
  options.on_place = args.get("on");
  options.reread = args.has("reread");
  options.no_verify = args.has("no-verify");
  options.stop = stop_requested;
  options.passphrase = [&] { return find_passphrase(args, name, job.passphrase_file, false); };
  RunReport report;
  report.run = log.run();
  run_backup(context.machine(), job, text, options, context.clock, observer, report);
  observer.end();
  log.finish(report,
             static_cast<std::size_t>(std::get<std::int64_t>(job.values.at("report.keep"))));
  if (!context.json) print_report(context, report, log.path());
  return report;
}

}  // namespace

int run_jobs(const Context& context, const Args& args) {
  std::vector<std::string> names = args.positional();
  if (args.has("all")) {
    if (!names.empty()) throw Error(ErrorKind::kUsage, "either NAME or --all");
    names = context.jobs().names();
  }
  if (names.empty()) {
    throw Error(ErrorKind::kUsage, "which job?", "kestrum run NAME... or kestrum run --all");
  }
  if (auto kind = args.get("kind"); kind && !parse_kind(*kind)) {
    throw Error(ErrorKind::kUsage, "--kind: \"" + printable(*kind) + "\" is not a kind",
                "full, incremental or differential");
  }
  // A name that is wrong is told before any job runs.
  for (const auto& name : names) {
    if (!args.has("all")) context.jobs().load(name);
  }
  Json runs = Json::array();
  int exit = 0;
  for (const auto& name : names) {
    int code = 0;
    try {
      RunReport report = run_one(context, args, name);
      runs.push_back(report.to_json());
      code = report.exit;
    } catch (const Error& error) {
      if (names.size() == 1) throw;
      context.tell(printable(error.message()));
      code = error.exit_code();
    }
    exit = worse_exit(exit, code);
    if (stop_requested()) break;
    if (names.size() > 1) context.say();
  }
  if (context.json) context.print_json({{"runs", runs}});
  return exit;
}

}  // namespace kestrum::cli
