#include "run_log.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <spdlog/sinks/basic_file_sink.h>
#include <spdlog/spdlog.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>
#include <chrono>

#include "kestrum/base/file.h"
#include "kestrum/base/host_name.h"
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
  begin(now);
  mode_t before = ::umask(077);
  log_ = std::make_shared<spdlog::logger>(
      "run", std::make_shared<spdlog::sinks::basic_file_sink_mt>(log_path_));
  ::umask(before);
  log_->set_pattern("%Y-%m-%d %H:%M:%S %v");
  log_->set_error_handler([](const std::string&) {});  // finish() notices
}

// Whoever is killed, or has the power cut, writes nothing any more: so it stands there before.
void RunLog::begin(Nanos now) {
  RunReport report;
  report.run = run_;
  report.job = job_;
  report.host = host_name();
  report.started = report.finished = now;
  report.outcome = Outcome::kFailed;
  report.exit = 3;
  report.reason = "it was cut off: the PC went off, or the run was killed";
  std::string path = RunRecords(machine_, job_).begun_path(run_), fresh = path + ".new";
  try {
    write_file(fresh, report.to_json().dump(2) + "\n");
    // Locked before it has its name: nobody takes a run at work for one that was cut off.
    begun_.reset(::open(fresh.c_str(), O_RDONLY | O_CLOEXEC));
    if (begun_) ::flock(begun_.get(), LOCK_EX);
    ::rename(fresh.c_str(), path.c_str());
  } catch (const Error&) {
    // No run fails because it might be cut off.
  }
}

RunLog::~RunLog() {
  log_->flush();
  ::unlink(RunRecords(machine_, job_).begun_path(run_).c_str());
}

void RunLog::line(const std::string& text) {
  auto when = std::chrono::duration_cast<spdlog::log_clock::duration>(
      std::chrono::nanoseconds(calendar_now()));
  log_->log(spdlog::log_clock::time_point(when), spdlog::source_loc{}, spdlog::level::info,
            printable(text));
}
void RunLog::warning(const std::string& text) {
  line("warning: " + text);
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
  if (report.set && report.seconds > 0) {
    auto a_second = [&](std::uint64_t bytes) {
      return format_size(static_cast<std::uint64_t>(static_cast<double>(bytes) / report.seconds));
    };
    line(fmt::format("took {}: {}/s copied, {}/s stored",
                     format_duration(static_cast<Nanos>(report.seconds * kSecond)),
                     a_second(report.bytes.copied), a_second(report.bytes.stored)));
  }
  line(fmt::format("{}{}", outcome_name(report.outcome),
                   report.reason.empty() ? "" : ": " + report.reason));
  log_->flush();
  write_file(folder_ + "/" + run_ + ".json", report.to_json().dump(2) + "\n");
  RunRecords(machine_, job_).keep_newest(keep);
}

}  // namespace kestrum::cli
