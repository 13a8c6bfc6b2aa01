// A lock, so that two runs of one job cannot meet.
#pragma once

#include <atomic>
#include <functional>
#include <optional>
#include <string>

#include "kestrum/base/file.h"
#include "kestrum/machine/machine_state.h"

namespace kestrum {

class JobLock {
 public:
  // Throws Error(kBusy) saying who runs, since when, how far.
  JobLock(const MachineState& state, const std::string& job, const std::string& activity);
  ~JobLock();
  JobLock(const JobLock&) = delete;
  JobLock& operator=(const JobLock&) = delete;

  // Whether somebody wants this run to end in order; looked up a few times a second at most.
  bool asked_to_stop();

  // Holds the caller while the run is paused, unless it is asked to stop.
  void wait_while_paused(const std::function<bool()>& stop);

  // Who has a job's lock; nothing if nobody has.
  struct Holder {
    std::string activity, progress;
    Nanos since = 0;  // by the real clock
    int process = 0;
    bool paused = false;
  };
  static std::optional<Holder> holder(const MachineState& state, const std::string& job);
  // Asks the holder to end in order.
  static void ask_to_stop(const MachineState& state, const std::string& job);
  // Makes the holder wait where it is, and go on; the next holder knows nothing of it.
  static void pause(const MachineState& state, const std::string& job);
  static void go_on(const MachineState& state, const std::string& job);

  // What the others are told; written at most once a second.
  // Written once a second; `text` is asked for then.
  void progress(const std::function<std::string()>& text);

 private:
  void write(const std::string& text);
  Fd fd_;
  std::string path_, head_;
  std::string stop_path_, pause_path_;
  Nanos written_ = 0;
  std::atomic<Nanos> asked_at_ = 0;  // asked by the threads of a run
  std::atomic<bool> stop_ = false, paused_ = false;
};

}  // namespace kestrum
