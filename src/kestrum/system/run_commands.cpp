#include "kestrum/system/run_commands.h"

#include <fmt/format.h>

#include <map>
#include <utility>

namespace kestrum {
namespace {

// What the commands before and after a run are told.
std::map<std::string, std::string> command_environment(const RunReport& report, const char* when) {
  std::map<std::string, std::string> variables = {{"KESTRUM_JOB", report.job},
                                                  {"KESTRUM_HOST", report.host},
                                                  {"KESTRUM_RUN", report.run},
                                                  {"KESTRUM_WHEN", when}};
  if (std::string_view(when) == "before") return variables;
  variables["KESTRUM_OUTCOME"] = outcome_name(report.outcome);
  variables["KESTRUM_EXIT"] = std::to_string(report.exit);
  variables["KESTRUM_REASON"] = report.reason;
  variables["KESTRUM_SET"] = report.set ? report.set->to_string() : "";
  variables["KESTRUM_KIND"] = report.set ? kind_name(*report.kind) : "";
  variables["KESTRUM_SHELF"] = report.shelf_path;
  const FileCounts& f = report.files;
  for (auto [name, count] : {std::pair{"SEEN", f.seen},
                             {"COPIED", f.copied},
                             {"MOVED", f.moved},
                             {"SAME", f.same},
                             {"GONE", f.gone},
                             {"ABSENT", f.absent},
                             {"LEFT_OUT", f.left_out},
                             {"FAILED", f.failed}}) {
    variables[std::string("KESTRUM_FILES_") + name] = std::to_string(count);
  }
  variables["KESTRUM_BYTES_COPIED"] = std::to_string(report.bytes.copied);
  variables["KESTRUM_BYTES_STORED"] = std::to_string(report.bytes.stored);
  variables["KESTRUM_WARNINGS"] = std::to_string(report.warning_count);
  return variables;
}

}  // namespace

CommandResult run_command(const Job& job, CommandTime time, const StopRequest& stop,
                          Observer& observer, const RunReport& report) {
  bool is_before = time == CommandTime::kBefore;
  const auto& [command, limit] = is_before ? job.before_run : job.after_run;
  const char* when = is_before ? "before" : "after";
  if (command.empty()) return {true, ""};
  observer.progress({std::string("command ") + when, 0, 0, 0, 0, ""});
  observer.log(fmt::format("command {}: {}", when, command));
  CommandResult result =
      run_shell_command(command, command_environment(report, when), limit, stop,
                        [&](const std::string& line) { observer.log("  " + line); });
  if (!result.ok) observer.log(fmt::format("command {}: {}", when, result.reason));
  return result;
}

}  // namespace kestrum
