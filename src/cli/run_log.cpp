#include "run_log.h"

#include <fmt/format.h>
#include <sodium.h>
#include <spdlog/sinks/basic_file_sink.h>
#include <spdlog/spdlog.h>
#include <unistd.h>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"

namespace kestrum::cli {

RunLog::RunLog(const MachineState& machine, const std::string& job, Nanos now)
    : folder_(machine.runs_folder(job)) {
  make_folders(folder_);
  std::string time = format_rfc3339(now);
  std::erase(time, ':');
  run_ = fmt::format("{}-{:04x}", time, randombytes_uniform(0x10000));
  log_path_ = folder_ + "/" + run_ + ".log";
  mode_t before = ::umask(077);
  log_ = std::make_shared<spdlog::logger>(
      "run", std::make_shared<spdlog::sinks::basic_file_sink_mt>(log_path_));
  ::umask(before);
  log_->set_pattern("%Y-%m-%d %H:%M:%S %v");
}

RunLog::~RunLog() {
  log_->flush();
}

void RunLog::line(const std::string& text) {
  log_->info(printable(text));
}
void RunLog::warning(const std::string& text) {
  log_->info("warning: {}", printable(text));
}

void RunLog::finish(const RunReport& report, std::size_t keep) {
  if (report.set) {
    line(fmt::format("set {} ({}): {}", report.set->to_string(), kind_name(*report.kind),
                     report.why));
  }
  const FileCounts& f = report.files;
  line(
      fmt::format("files: seen {}, copied {}, moved {}, same {}, gone {}, absent {}, left out {}, "
                  "failed {}",
                  f.seen, f.copied, f.moved, f.same, f.gone, f.absent, f.left_out, f.failed));
  line(fmt::format("bytes: seen {}, copied {}, stored {}", report.bytes.seen, report.bytes.copied,
                   report.bytes.stored));
  line(fmt::format("{}{}", outcome_name(report.outcome),
                   report.reason.empty() ? "" : ": " + report.reason));
  log_->flush();
  write_file(folder_ + "/" + run_ + ".json", report.to_json().dump(2) + "\n");
  std::vector<std::string> records;
  for (const auto& name : list_folder(folder_)) {
    if (name.ends_with(".json")) records.push_back(name.substr(0, name.size() - 5));
  }
  for (std::size_t i = 0; i + keep < records.size(); ++i) {
    ::unlink((folder_ + "/" + records[i] + ".json").c_str());
    ::unlink((folder_ + "/" + records[i] + ".log").c_str());
  }
}

}  // namespace kestrum::cli
