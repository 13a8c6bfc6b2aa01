#include "run_log.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <spdlog/sinks/basic_file_sink.h>
#include <spdlog/spdlog.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/run_records.h"

namespace kestrum::cli {

RunLog::RunLog(const MachineState& machine, const std::string& job, Nanos now)
    : machine_(machine), job_(job), folder_(machine.runs_folder(job)) {
  make_folders(folder_);
  std::string time = format_rfc3339(now);
  std::erase(time, ':');
  // Numbered, since no clock says for certain what came first.
  unsigned number = 0;
  for (const auto& name : list_folder(folder_)) {
    unsigned other = 0;
    std::from_chars(name.data(), name.data() + name.size(), other);
    if (name.find('_') != std::string::npos) number = std::max(number, other);
  }
  for (Fd taken; !taken;) {
    run_ = fmt::format("{:06}_{}", ++number, time);
    log_path_ = folder_ + "/" + run_ + ".log";
    taken.reset(::open(log_path_.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600));
    if (!taken && errno != EEXIST) throw system_error(errno, log_path_);
  }
  mode_t before = ::umask(077);
  log_ = std::make_shared<spdlog::logger>(
      "run", std::make_shared<spdlog::sinks::basic_file_sink_mt>(log_path_));
  ::umask(before);
  log_->set_pattern("%Y-%m-%d %H:%M:%S %v");
  log_->set_error_handler([](const std::string&) {});  // finish() notices
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
  RunRecords(machine_, job_).keep_newest(keep);
}

}  // namespace kestrum::cli
