// The record of a run on this machine: a log for people and the report as JSON.
#pragma once

#include <memory>
#include <string>

#include "kestrum/base/file.h"
#include "kestrum/machine/machine_state.h"
#include "kestrum/machine/run_report.h"

namespace spdlog {
class logger;
}

namespace kestrum::cli {

class RunLog {
 public:
  // Starts <state>/runs/<job>/<run>.log, and <run>.begun, which is what is known of a run that is
  // cut off.
  RunLog(const MachineState& machine, const std::string& job, Nanos now);
  ~RunLog();

  const std::string& run() const { return run_; }
  const std::string& path() const { return log_path_; }
  void line(const std::string& text);
  void warning(const std::string& text);
  // Writes the closing lines and <run>.json, and removes all but the newest `keep` runs.
  void finish(const RunReport& report, std::size_t keep);

 private:
  void begin(Nanos now);

  MachineState machine_;
  std::string job_, folder_, run_, log_path_;
  std::shared_ptr<spdlog::logger> log_;
  Fd begun_;  // locked while the run is at work
};

}  // namespace kestrum::cli
