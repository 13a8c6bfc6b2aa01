#include "kestrum/remote/retry.h"

#include <algorithm>
#include <chrono>
#include <cstdint>
#include <random>
#include <thread>

#include "kestrum/base/clock.h"

namespace kestrum {
namespace {

constexpr Nanos kFirstWait = kSecond / 4, kLongestWait = kMinute, kWaitNap = kSecond / 10;
constexpr std::size_t kToldAfter = 2;         // tries that fail before anybody is told
constexpr std::size_t kTriesOfAStranger = 2;  // of a server that has answered nothing yet
constexpr std::size_t kAnswersAtMost = 5;     // of a server that says that it cannot

// Many PCs lose the same server at the same moment: they do not come back at the same one.
Nanos jittered(Nanos pause) {
  static thread_local std::minstd_rand random{std::random_device{}()};
  return std::uniform_int_distribution<Nanos>(pause / 2, pause)(random);
}

thread_local Nanos longest_wait = INT64_MAX;  // of this thread

}  // namespace

ShortPatience::ShortPatience(Nanos patience) : before_(longest_wait) {
  longest_wait = std::min(longest_wait, patience);
}

ShortPatience::~ShortPatience() {
  longest_wait = before_;
}

void Retry::wait_after(const BrokenConnection& error) {
  const RemoteContext& context = remote_context();
  Nanos now = steady_now(), patience = std::min(context.patience, longest_wait);
  if (since_ == 0) since_ = now;
  answers_ += error.answered();
  bool enough = answers_ >= kAnswersAtMost || now - since_ >= patience ||
                (error.first() && tries_ >= kTriesOfAStranger);
  if (enough) throw Error(error);
  pause_ = pause_ == 0 ? kFirstWait : std::min(pause_ * 2, kLongestWait);
  if (++tries_ == kToldAfter && context.note) context.note(error.message() + "; trying again");
  Nanos until = now + std::min(jittered(pause_), since_ + patience - now);
  while (steady_now() < until) {
    bool stop = (context.stopped && context.stopped()) || (given_up_ && given_up_());
    if (stop) throw Error(ErrorKind::kStopped, "stopped");
    std::this_thread::sleep_for(std::chrono::nanoseconds(kWaitNap));
  }
}

void Retry::came_through() {
  since_ = pause_ = 0;
  tries_ = answers_ = 0;
}

}  // namespace kestrum
