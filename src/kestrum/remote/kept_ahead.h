// What was got before somebody needs it.
#pragma once

#include <map>
#include <mutex>
#include <optional>
#include <string>
#include <utility>

#include "kestrum/base/clock.h"

namespace kestrum {

// By path, for ten seconds and to be taken once: who wants it wants it as it is now, not as it was
// a while ago. Used by any thread.
template <typename T>
class KeptAhead {
 public:
  void put(const std::string& path, T what) {
    std::lock_guard lock(mutex_);
    kept_.insert_or_assign(path, std::pair(std::move(what), steady_now()));
  }
  std::optional<T> take(const std::string& path) {
    std::lock_guard lock(mutex_);
    auto it = fresh(path);
    if (it == kept_.end()) return std::nullopt;
    return std::move(kept_.extract(it).mapped().first);
  }
  // What `use` says of it, which stays.
  template <typename Use>
  auto look(const std::string& path, Use use) {
    std::lock_guard lock(mutex_);
    auto it = fresh(path);
    return it == kept_.end() ? std::nullopt : std::optional(use(it->second.first));
  }
  bool has(const std::string& path) {
    return look(path, [](const T&) { return true; }).has_value();
  }
  void clear() {
    std::lock_guard lock(mutex_);
    kept_.clear();
  }

 private:
  using Map = std::map<std::string, std::pair<T, Nanos>>;
  typename Map::iterator fresh(const std::string& path) {
    auto it = kept_.find(path);
    bool old = it != kept_.end() && steady_now() - it->second.second >= 10 * kSecond;
    if (!old) return it;
    kept_.erase(it);
    return kept_.end();
  }

  std::mutex mutex_;
  Map kept_;
};

}  // namespace kestrum
