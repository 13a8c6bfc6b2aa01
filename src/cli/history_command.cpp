#include <fmt/format.h>

#include "command.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/job/job_store.h"
#include "kestrum/machine/action_log.h"
#include "kestrum/machine/run_records.h"
#include "table.h"

namespace kestrum::cli {
namespace {

constexpr std::size_t kRunsShown = 25;
constexpr std::uint64_t kLogLimit = 1 << 30;
constexpr std::size_t kTimeColumns = 19;  // of a line of a log, in front of its words

std::string find_run(const RunRecords& records, const std::string& job, const std::string& typed) {
  std::vector<std::string> runs = records.runs();
  if (typed == "newest" && !runs.empty()) return runs.back();
  auto wanted = parse_number(typed);
  for (const auto& run : runs) {
    if (run == typed || (wanted && run_number(run) == *wanted)) return run;
  }
  throw Error(ErrorKind::kNoMatch, "no run " + printable(typed) + " of " + job + " on record",
              "all of them: kestrum history " + job)
      .about_job(job);
}

int show_run(const Context& context, const RunRecords& records, const std::string& run) {
  if (context.json) {
    context.print_json({{"runs", Json::array({records.load(run).value_or(Json::object())})},
                        {"log", records.log_path(run)}});
    return 0;
  }
  // What is wrong first, and apart.
  std::vector<std::string> wrong, rest;
  for (const auto& line : split(read_file(records.log_path(run), kLogLimit), '\n')) {
    if (line.empty()) continue;
    bool of_trouble =
        line.find(" warning: ") == kTimeColumns || line.find(" failed") == kTimeColumns;
    (of_trouble ? wrong : rest).push_back(printable(line));
  }
  for (const std::string& line : wrong) context.data(line, "");
  if (!wrong.empty()) context.say();
  for (const std::string& line : rest) context.data(line, "");
  return 0;
}

// "c1-0 full, 12.4 MB, 3 s", "c1-3, 17.2 kB, 0.1 s"; of a run that made no set, why.
std::string what_came_of(const Json& record) {
  std::string set = record_text(record, "set"), reason = record_text(record, "reason");
  if (set.empty()) return reason.empty() ? record_text(record, "trigger") : reason;
  if (reason == record_text(record, "outcome")) reason.clear();
  auto seconds = record.find("seconds");
  double took = seconds != record.end() && seconds->is_number() ? seconds->get<double>() : 0;
  std::string kind = record_text(record, "kind") == "full" ? " full" : "";
  return fmt::format(
      "{}{}, {}, {}{}", set, kind, format_size(record_count(record, "bytes", "copied")),
      format_duration(static_cast<Nanos>(took * kSecond)), reason.empty() ? "" : ", " + reason);
}

// What somebody did to the job or its sets.
void print_actions(const Context& context, const std::vector<Action>& actions) {
  if (actions.empty()) return;
  context.say("besides runs");
  Table table("<<<w");
  std::size_t first = actions.size() > kRunsShown ? actions.size() - kRunsShown : 0;
  for (std::size_t i = first; i < actions.size(); ++i) {
    const Action& action = actions[i];
    table.add({format_local_day(action.when), printable(action.who), action.what,
               printable(action.detail)});
  }
  fmt::print("{}", table.text());
}

}  // namespace

int show_history(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum history NAME [--show RUN]");
  const std::string& name = args.positional()[0];
  if (bad_job_name(name) ||
      (!context.jobs().has(name) && !is_folder(context.machine().runs_folder(name)))) {
    context.jobs().load(name);  // says that there is no such job
  }
  RunRecords records(context.machine(), name);
  if (auto run = args.get("show")) return show_run(context, records, find_run(records, name, *run));

  std::vector<std::string> runs = records.runs();
  Json list = Json::array();
  Table table("><<p");
  table.add({"run", "started", "outcome", ""});
  std::size_t first = runs.size() > kRunsShown ? runs.size() - kRunsShown : 0;
  for (std::size_t i = context.json ? 0 : first; i < runs.size(); ++i) {
    auto record = records.load(runs[i]);
    if (!record) continue;
    if (context.json) {
      list.push_back(std::move(*record));
      continue;
    }
    table.add({std::to_string(run_number(runs[i])),
               format_local_day(record_time(*record, "started")), record_text(*record, "outcome"),
               printable(what_came_of(*record))});
  }
  std::vector<Action> actions = actions_of(context.machine(), name);
  if (context.json) {
    Json by_hand = Json::array();
    for (const Action& action : actions) {
      by_hand.push_back({{"when", format_rfc3339(action.when)},
                         {"host", action.host},
                         {"who", action.who},
                         {"what", action.what},
                         {"detail", action.detail}});
    }
    context.print_json({{"job", name}, {"runs", list}, {"actions", by_hand}});
    return 0;
  }
  context.say(runs.empty() ? name + " has not run yet"
                           : fmt::format("{}: {} on record", name, counted(runs.size(), "run")));
  if (runs.empty()) {
    print_actions(context, actions);
    return 0;
  }
  fmt::print("{}", table.text());
  if (first > 0) context.say(fmt::format("  and {} earlier (--json has them all)", first));
  print_actions(context, actions);
  context.say(
      fmt::format("a run's log: kestrum history {} --show {}", name, run_number(runs.back())));
  return 0;
}

}  // namespace kestrum::cli
