// The state at a restore point, read by a thread of its own ahead of whoever asks for it.
#pragma once

#include <condition_variable>
#include <deque>
#include <exception>
#include <memory>
#include <mutex>
#include <thread>
#include <vector>

#include "kestrum/machine/index.h"

namespace kestrum {

// Reads by a connection of its own what was committed when it began. Its calls come from one
// thread.
class StateAhead {
 public:
  // `reader` is only used here from now on (Index::reader).
  StateAhead(std::unique_ptr<Index> reader, SetId set);
  ~StateAhead();

  // In path order; false at the end. Throws what reading the index throws.
  bool next(IndexEntry& entry);

 private:
  using Batch = std::vector<IndexEntry>;
  void read();
  bool put(Batch batch);

  std::unique_ptr<Index> reader_;
  SetId set_;
  Batch batch_;  // that is given out
  std::size_t at_ = 0;

  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<Batch> ready_;
  bool ended_ = false, given_up_ = false;
  std::exception_ptr failure_;
  std::thread thread_;
};

}  // namespace kestrum
