// A lock, so that two runs of one job cannot meet.
#pragma once

#include <string>

#include "kestrum/base/file.h"
#include "kestrum/shelf/machine_state.h"

namespace kestrum {

class JobLock {
 public:
  // Throws Error(kBusy) saying who runs, since when, how far.
  JobLock(const MachineState& state, const std::string& job, const std::string& activity);
  ~JobLock();
  JobLock(const JobLock&) = delete;
  JobLock& operator=(const JobLock&) = delete;

  // What the others are told; written at most once a second.
  void progress(const std::string& text);

 private:
  void write(const std::string& text);
  Fd fd_;
  std::string path_, head_;
  Nanos written_ = 0;
};

}  // namespace kestrum
