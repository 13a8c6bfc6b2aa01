// What a run tells while it is under way: progress with an end in sight.
#pragma once

#include <fmt/format.h>

#include <atomic>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

#include "kestrum/base/observer.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/job_lock.h"
#include "kestrum/select/walk.h"

namespace kestrum {

// Counts what the walk will find, beside the run, so that progress has an end in sight.
class TotalsCounter {
 public:
  TotalsCounter(std::vector<std::string> roots, const Selection& selection)
      : thread_([this, roots = std::move(roots), &selection] {
          Walk walk(roots, selection);
          WalkEvent event;
          std::uint64_t files = 0, bytes = 0;
          while (!stop_ && walk.next(event)) {
            if (event.kind != WalkEvent::Kind::kEntry || S_ISDIR(event.st.st_mode)) continue;
            ++files;
            if (S_ISREG(event.st.st_mode)) bytes += static_cast<std::uint64_t>(event.st.st_size);
          }
          if (stop_) return;
          bytes_ = bytes;
          files_ = files;
        }) {}
  ~TotalsCounter() {
    stop_ = true;
    thread_.join();
  }
  std::uint64_t files() const { return files_; }
  std::uint64_t bytes() const { return bytes_; }

 private:
  std::atomic<bool> stop_ = false;
  std::atomic<std::uint64_t> files_ = 0, bytes_ = 0;
  std::thread thread_;
};

// Passes on to the caller's observer, adding totals, and tells the lock how far the run is.
// Two threads call it while a run makes room: the one that copies and the one that writes.
class RunObserver : public Observer {
 public:
  RunObserver(Observer& next, JobLock& lock) : next_(next), lock_(lock) {}
  void count(const TotalsCounter* totals) { totals_ = totals; }
  void progress(const Progress& progress) override {
    std::lock_guard guard(mutex_);
    Progress copy = progress;
    if (totals_ != nullptr) {
      copy.files_total = totals_->files();
      copy.bytes_total = totals_->bytes();
    }
    lock_.progress([&] {
      return fmt::format("{}: {}, {}", progress.phase, counted(progress.files_done, "file"),
                         format_size(progress.bytes_done));
    });
    next_.progress(copy);
  }
  bool wants_totals() const override { return next_.wants_totals(); }
  void warning(const std::string& path, const std::string& reason) override {
    std::lock_guard guard(mutex_);
    next_.warning(path, reason);
  }
  void note(const std::string& text) override {
    std::lock_guard guard(mutex_);
    next_.note(text);
  }
  void log(const std::string& text) override {
    std::lock_guard guard(mutex_);
    next_.log(text);
  }
  bool wants_files() const override { return next_.wants_files(); }
  void file(const char* what, const std::string& path, std::uint64_t bytes) override {
    std::lock_guard guard(mutex_);
    next_.file(what, path, bytes);
  }

 private:
  std::mutex mutex_;
  Observer& next_;
  JobLock& lock_;
  const TotalsCounter* totals_ = nullptr;
};

}  // namespace kestrum
