// Has the filesystems that a restore writes to write while more comes, so that the sync in its end
// has little left to wait for. A slow disk is left to the kernel: nobody who stops a restore should
// wait for it.
#pragma once

#include <atomic>
#include <cstdint>
#include <memory>
#include <thread>
#include <vector>

#include "kestrum/base/file.h"

namespace kestrum {

// Used by one thread. What goes wrong is for the sync in the end to tell.
class SyncAhead {
 public:
  ~SyncAhead() { end(); }
  SyncAhead() = default;
  SyncAhead(const SyncAhead&) = delete;
  SyncAhead& operator=(const SyncAhead&) = delete;

  // `bytes` were written so far. Whether it is time to go on with begin().
  bool is_due(std::uint64_t bytes) const {
    return bytes - begun_at_ >= (begun_at_ == 0 ? kFirst : kEach) && !under_way_ && quick_;
  }
  // Syncs the filesystems of these folders on another thread.
  void begin(std::uint64_t bytes, std::vector<std::shared_ptr<const Fd>> folders);
  // Waits for what is under way.
  void end();

 private:
  static constexpr std::uint64_t kFirst = 16 << 20, kEach = 64 << 20;  // bytes

  std::uint64_t begun_at_ = 0;
  std::atomic<bool> under_way_ = false, quick_ = true;
  std::thread thread_;
};

}  // namespace kestrum
