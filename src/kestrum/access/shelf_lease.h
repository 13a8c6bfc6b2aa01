// One PC at a time writes to a shelf that several can reach: on a share or a server
// (docs/format.md, "The lease").
#pragma once

#include <atomic>
#include <functional>
#include <memory>
#include <mutex>
#include <string>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/nanos.h"
#include "kestrum/base/observer.h"

namespace kestrum {

inline constexpr const char* kLeaseFile = "lease.json";  // relative to the shelf

// A lease is a file that its holder writes anew every few seconds. No clock is compared: whoever
// finds another's watches whether it changes.
struct LeaseTimes {
  Nanos beat = 15 * kSecond;   // written anew
  Nanos watch = 90 * kSecond;  // so long unchanged: its holder is gone
  Nanos poll = 3 * kSecond;
};

class ShelfLease {
 public:
  explicit ShelfLease(const LeaseTimes& times = {}) : times_(times) {}
  ~ShelfLease();
  ShelfLease(const ShelfLease&) = delete;
  ShelfLease& operator=(const ShelfLease&) = delete;

  // Of a shelf that this machine alone can reach nothing is taken. Throws Error(kBusy) if another
  // PC writes there, Error(kStopped), and what the place says.
  void take(const MachineState& machine, const OpenShelf& open, const StopRequest& stop,
            Observer& observer);
  // The same at any place.
  void take(std::shared_ptr<Place> place, const std::string& machine, const std::string& host,
            const StopRequest& stop, Observer& observer);
  // To be called often, by any thread; does nothing most times, and never throws.
  void beat();
  // Before what cannot be taken back: throws Error(kBusy) if another PC has it by now.
  void check();
  // Gives it back; what fails is another's to watch.
  void release();

 private:
  std::string text_now();

  LeaseTimes times_;
  std::mutex mutex_;
  std::shared_ptr<Place> place_;  // nothing: not taken
  std::string machine_, host_, token_;
  std::uint64_t beats_ = 0;
  Nanos beaten_ = 0;  // when it was written last
  std::atomic<Nanos> next_beat_ = 0;
};

}  // namespace kestrum
