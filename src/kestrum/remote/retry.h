// Trying again what a broken connection kept from being done.
#pragma once

#include <functional>
#include <string>
#include <utility>

#include "kestrum/base/nanos.h"
#include "kestrum/remote/remote_server.h"

namespace kestrum {

// For as long as it exists, this thread waits no longer than so many nanoseconds for a server: for
// what is worth doing, and not worth waiting for.
class ShortPatience {
 public:
  explicit ShortPatience(Nanos patience);
  ~ShortPatience();
  ShortPatience(const ShortPatience&) = delete;
  ShortPatience& operator=(const ShortPatience&) = delete;

 private:
  Nanos before_;
};

// Waits a growing, jittered time between tries, for as long in all as the context has patience.
// One of these is for one thing to be done; what comes through begins anew.
class Retry {
 public:
  // `given_up` is asked while waiting: true where nobody wants it any more.
  explicit Retry(std::function<bool()> given_up = {}) : given_up_(std::move(given_up)) {}
  // Returns when it is to be tried again; throws `error` when it is not.
  void wait_after(const BrokenConnection& error);
  // Something came through.
  void came_through();

  // Calls until nothing breaks, or patience ends.
  template <typename Call>
  static auto insist(Call call) {
    Retry retry;
    for (;;) {
      try {
        return call();
      } catch (const BrokenConnection& error) {
        retry.wait_after(error);
      }
    }
  }

 private:
  std::function<bool()> given_up_;
  Nanos since_ = 0, pause_ = 0;
  std::size_t tries_ = 0, answers_ = 0;
};

}  // namespace kestrum
