// What a run says while it works: passed on to whoever watches, and kept for the report. Called by
// the thread that runs the phases alone; the observer behind it may be called by others too.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "kestrum/base/observer.h"
#include "kestrum/base/text.h"
#include "kestrum/machine/run_report.h"

namespace kestrum {

class RunMessages {
 public:
  // `told`: warnings that count as this run's and were passed on already.
  RunMessages(Observer& observer, std::vector<Warning> told)
      : observer_(observer), warning_count_(told.size()), warnings_(std::move(told)) {}

  // Texts may have names in them, which are bytes.
  void note(const std::string& text) {
    notes_.push_back(printable(text));
    observer_.note(notes_.back());
  }
  // For whoever watches and the log; not in the report.
  void mention(const std::string& text) { observer_.note(printable(text)); }
  // `path` is absolute, or empty where it is about no path.
  void warn(const std::string& path, const std::string& reason) {
    ++warning_count_;
    if (warnings_.size() < kWarningLimit) warnings_.push_back({path, reason});
    observer_.warning(path, reason);
  }
  void warn(const std::string& reason) { warn("", reason); }

  Observer& observer() { return observer_; }
  std::uint64_t warning_count() const { return warning_count_; }
  const std::vector<Warning>& warnings() const { return warnings_; }  // at most kWarningLimit
  const std::vector<std::string>& notes() const { return notes_; }

 private:
  Observer& observer_;
  std::uint64_t warning_count_;
  std::vector<Warning> warnings_;
  std::vector<std::string> notes_;
};

}  // namespace kestrum
