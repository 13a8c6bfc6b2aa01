#include "kestrum/machine/state_ahead.h"

#include <utility>

namespace kestrum {
namespace {

constexpr std::size_t kEntries = 512;  // in a batch
constexpr std::size_t kBatches = 4;    // that wait at most

}  // namespace

StateAhead::StateAhead(std::unique_ptr<Index> reader, SetId set)
    : reader_(std::move(reader)), set_(set), thread_([this] { read(); }) {}

StateAhead::~StateAhead() {
  {
    std::lock_guard lock(mutex_);
    given_up_ = true;
  }
  changed_.notify_all();
  thread_.join();
}

bool StateAhead::next(IndexEntry& entry) {
  if (at_ == batch_.size()) {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return !ready_.empty() || ended_; });
    if (ready_.empty()) {
      if (failure_) std::rethrow_exception(failure_);
      return false;
    }
    batch_ = std::move(ready_.front());
    ready_.pop_front();
    at_ = 0;
    lock.unlock();
    changed_.notify_all();
  }
  entry = std::move(batch_[at_++]);
  return true;
}

// False if nobody wants more.
bool StateAhead::put(Batch batch) {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [&] { return ready_.size() < kBatches || given_up_; });
  if (given_up_) return false;
  if (!batch.empty()) ready_.push_back(std::move(batch));
  lock.unlock();
  changed_.notify_all();
  return true;
}

void StateAhead::read() {
  std::exception_ptr failure;
  try {
    auto cursor = reader_->state_at(set_);
    bool more = true;
    while (more) {
      Batch batch;
      batch.reserve(kEntries);
      while (batch.size() < kEntries && more) {
        IndexEntry entry;
        more = cursor.next(entry);
        if (more) batch.push_back(std::move(entry));
      }
      if (!put(std::move(batch))) break;
    }
  } catch (...) {
    failure = std::current_exception();
  }
  {
    std::lock_guard lock(mutex_);
    failure_ = failure;
    ended_ = true;
  }
  changed_.notify_all();
}

}  // namespace kestrum
