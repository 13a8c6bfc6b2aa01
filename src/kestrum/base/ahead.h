// What a thread of its own makes, ahead of whoever asks for it.
#pragma once

#include <condition_variable>
#include <cstddef>
#include <deque>
#include <exception>
#include <functional>
#include <mutex>
#include <thread>
#include <utility>
#include <vector>

namespace kestrum {

// Its calls come from one thread. Items go round: what next() is handed is used again for one of
// the items that follow, so that the room of their strings is not allocated anew for each.
template <typename Item>
class Ahead {
 public:
  class Batch {
   public:
    // One more, in the state that whoever used it last left it in.
    Item& add() {
      if (count_ == items_.size()) items_.emplace_back();
      return items_[count_++];
    }
    void drop_last() { --count_; }
    Item& operator[](std::size_t at) { return items_[at]; }
    std::size_t size() const { return count_; }
    bool empty() const { return count_ == 0; }
    void clear() { count_ = 0; }

   private:
    std::vector<Item> items_;  // as many as there ever were
    std::size_t count_ = 0;
  };
  // Called by the other thread: adds the next items; false if they are the last. What it throws,
  // next() throws behind the batches before.
  using Make = std::function<bool(Batch&)>;
  // At most so many batches wait.
  Ahead(Make make, std::size_t most_waiting)
      : make_(std::move(make)), most_waiting_(most_waiting), thread_([this] { run(); }) {}

  ~Ahead() {  // gives up
    {
      std::lock_guard lock(mutex_);
      given_up_ = true;
    }
    changed_.notify_all();
    thread_.join();
  }

  // In the order in which they were made; false at the end.
  bool next(Item& item) {
    if (at_ == batch_.size()) {
      std::unique_lock lock(mutex_);
      changed_.wait(lock, [&] { return !ready_.empty() || ended_; });
      if (ready_.empty()) {
        if (failure_) std::rethrow_exception(failure_);
        return false;
      }
      batch_.clear();
      spare_.push_back(std::move(batch_));
      batch_ = std::move(ready_.front());
      ready_.pop_front();
      at_ = 0;
      lock.unlock();
      changed_.notify_all();
    }
    std::swap(item, batch_[at_++]);
    return true;
  }

 private:
  // Leaves an empty one in its place; false if nobody wants more.
  bool put(Batch& batch) {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return ready_.size() < most_waiting_ || given_up_; });
    if (given_up_) return false;
    if (!batch.empty()) {
      ready_.push_back(std::move(batch));
      batch = Batch();
      if (!spare_.empty()) {
        batch = std::move(spare_.back());
        spare_.pop_back();
      }
    }
    lock.unlock();
    changed_.notify_all();
    return true;
  }

  void run() {
    std::exception_ptr failure;
    try {
      Batch batch;
      for (bool more = true; more;) {
        more = make_(batch);
        if (!put(batch)) break;
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

  Make make_;
  std::size_t most_waiting_;
  Batch batch_;  // that is given out
  std::size_t at_ = 0;

  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<Batch> ready_;
  std::vector<Batch> spare_;  // that were given out
  bool ended_ = false, given_up_ = false;
  std::exception_ptr failure_;
  std::thread thread_;  // last: all it works with is there before it, and after
};

}  // namespace kestrum
