// What was tried since a look at the schedule began, so that a check knows for which run to give
// way.
#pragma once

#include <map>
#include <set>
#include <string>

#include "kestrum/system/scheduler.h"

namespace kestrum {

class TriedRuns {
 public:
  void began(const DueJob& due) {
    times_[due.job.name] = due.due;
    waiting_.erase(due.job.name);
  }
  // It was due and could not start.
  void waits(const DueJob& due) {
    began(due);
    waiting_.insert(due.job.name);
  }
  // Each job is tried once, whatever comes of it.
  bool has(const std::string& job) const { return times_.contains(job); }
  // Whether a run that is due is another than the one that was tried, or waited for what may be
  // there by now: the disk.
  bool is_new(const DueJob& due) const {
    auto tried = times_.find(due.job.name);
    return tried == times_.end() || due.due > tried->second || waiting_.contains(due.job.name);
  }
  void clear() {
    times_.clear();
    waiting_.clear();
  }

 private:
  std::map<std::string, Nanos> times_;  // for which each stood
  std::set<std::string> waiting_;
};

}  // namespace kestrum
