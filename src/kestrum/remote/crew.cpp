#include "kestrum/remote/crew.h"

#include <algorithm>
#include <chrono>
#include <condition_variable>
#include <exception>
#include <system_error>
#include <utility>

#include "kestrum/base/clock.h"

namespace kestrum {
namespace {

constexpr std::size_t kAtATime = 6;             // exchanges
constexpr std::size_t kFromFar = 4;             // connections, where the way is a long one
constexpr std::size_t kAsLongAsConnecting = 6;  // exchanges
constexpr Nanos kWorthAnother = kSecond / 5;    // of waiting, which another connection would save

}  // namespace

// Shared by all who do it: who made a connection for nothing comes when it is done and gone.
class Crew::Work {
 public:
  explicit Work(std::vector<Task> tasks) : tasks_(std::move(tasks)) {}

  std::size_t left() const { return tasks_.size() - std::min(tasks_.size(), next_.load()); }

  void go_on(std::size_t most) {
    for (std::size_t i; most-- > 0 && (i = next_++) < tasks_.size();) {
      std::exception_ptr failure;
      try {
        tasks_[i]();
      } catch (...) {
        failure = std::current_exception();
      }
      std::lock_guard lock(mutex_);
      if (failure && !failure_) failure_ = failure;
      if (++done_ == tasks_.size()) all_done_.notify_all();
    }
  }
  void finish() {
    go_on(tasks_.size());
    std::unique_lock lock(mutex_);
    all_done_.wait(lock, [&] { return done_ == tasks_.size(); });
    if (failure_) std::rethrow_exception(failure_);
  }

 private:
  std::vector<Task> tasks_;
  std::atomic<std::size_t> next_ = 0;
  std::mutex mutex_;
  std::condition_variable all_done_;
  std::size_t done_ = 0;
  std::exception_ptr failure_;
};

void Crew::do_all(std::vector<Task> tasks) {
  auto work = std::make_shared<Work>(std::move(tasks));
  if (pace_ == 0) pace_ = store_->pace();
  // Another connection costs something too: the first task tells whether the way is a long one.
  if (pace_ == 0 && work->left() > 0) {
    Nanos began = steady_now();
    work->go_on(1);
    pace_ = std::max<Nanos>(steady_now() - began, 1);
  }
  std::size_t left = work->left(), idle = at_hand();
  auto worth = std::min(static_cast<std::size_t>(pace_ * static_cast<Nanos>(left) / kWorthAnother),
                        left / kAsLongAsConnecting);
  // What is asked for together is mostly not all: the next finds the connections made.
  if (left >= kFromFar && store_->is_far()) worth = std::max(worth, kFromFar);
  std::size_t lanes = std::min({kAtATime, left, std::max(worth, idle)});
  {
    std::lock_guard lock(mutex_);
    forget_done();
    for (std::size_t i = 1; i < lanes; ++i) help(work, i >= idle);
  }
  work->finish();
}

// One that becomes idle just now may be counted twice, but is not missed.
std::size_t Crew::there_soon() const {
  std::size_t soon = connecting_;
  return soon + at_hand();
}

void Crew::connect_ahead() {
  std::lock_guard lock(mutex_);
  if (!store_->is_far()) return;
  forget_done();
  for (std::size_t coming = there_soon(); coming < kFromFar; ++coming) help(nullptr, true);
}

// Under the lock.
void Crew::forget_done() {
  std::erase_if(helpers_, [](const std::future<void>& helper) {
    return helper.wait_for(std::chrono::seconds(0)) == std::future_status::ready;
  });
}

// Under the lock.
void Crew::help(const std::shared_ptr<Work>& work, bool connects) {
  if (connects && there_soon() >= kAtATime) return;
  try {
    if (connects) ++connecting_;
    helpers_.push_back(std::async(std::launch::async, [this, work, connects] {
      if (connects) {
        store_->connect_another();
        --connecting_;
      }
      if (work) work->go_on(SIZE_MAX);
    }));
  } catch (const std::system_error&) {
    // No thread to be had: who needs a connection makes it.
    if (connects) --connecting_;
  }
}

}  // namespace kestrum
