// Several exchanges with one server at a time.
#pragma once

#include <atomic>
#include <cstddef>
#include <functional>
#include <future>
#include <memory>
#include <mutex>
#include <vector>

#include "kestrum/remote/store.h"

namespace kestrum {

// Who mostly waits for answers from far away waits for several at once: by the connections that lie
// idle, and by others, which are made meanwhile where that is worth it. Used by any thread.
class Crew {
 public:
  explicit Crew(std::shared_ptr<Store> store) : store_(std::move(store)) {}
  // Waits for connections that are being made.
  ~Crew() = default;
  Crew(const Crew&) = delete;

  using Task = std::function<void()>;
  // Does all of them, in any order, and returns when they are done. Throws what the first that
  // failed did.
  void do_all(std::vector<Task> tasks);

  // How many could be done at a time without another connection.
  std::size_t at_hand() const { return store_->idle_connections(); }
  // Who writes soon does several things at a time: makes connections, where the way is a long one,
  // and does not wait for them.
  void connect_ahead();

 private:
  class Work;
  void forget_done();
  std::size_t there_soon() const;
  void help(const std::shared_ptr<Work>& work, bool connects);

  std::shared_ptr<Store> store_;
  std::atomic<Nanos> pace_ = 0;  // of one exchange; 0: not known
  std::atomic<std::size_t> connecting_ = 0;
  std::mutex mutex_;
  std::vector<std::future<void>> helpers_;
};

}  // namespace kestrum
