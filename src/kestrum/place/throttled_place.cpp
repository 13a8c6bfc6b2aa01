#include "kestrum/place/throttled_place.h"

#include <algorithm>
#include <chrono>
#include <thread>

namespace kestrum {
namespace {

constexpr Nanos kNap = kSecond / 10;
constexpr Nanos kSlack = kSecond / 10;  // that may be caught up with after a pause

class ThrottledFile : public PlaceFile {
 public:
  ThrottledFile(std::unique_ptr<PlaceFile> below, Throttle& throttle)
      : below_(std::move(below)), throttle_(throttle) {}
  void write(ByteView bytes) override {
    while (!bytes.empty()) {
      ByteView some = bytes.first(std::min(bytes.size(), throttle_.portion()));
      below_->write(some);
      throttle_.pass(some.size());
      bytes = bytes.subspan(some.size());
    }
  }
  void end() override { below_->end(); }
  void sync() override { below_->sync(); }
  bool sync_again() const override { return below_->sync_again(); }

 private:
  std::unique_ptr<PlaceFile> below_;
  Throttle& throttle_;
};

}  // namespace

std::size_t Throttle::portion() const {
  return static_cast<std::size_t>(std::clamp<std::uint64_t>(rate_ / 20, 4096, 1 << 20));
}

void Throttle::pass(std::size_t bytes) {
  Nanos now = steady_now();
  free_at_ = std::max(free_at_, now - kSlack);
  free_at_ += static_cast<Nanos>(static_cast<double>(bytes) * kSecond / static_cast<double>(rate_));
  while ((now = steady_now()) < free_at_) {
    if (stop_ && stop_()) return;  // what is under way ends at full speed
    std::this_thread::sleep_for(std::chrono::nanoseconds(std::min(kNap, free_at_ - now)));
  }
}

std::unique_ptr<PlaceFile> ThrottledPlace::create(const std::string& path) {
  return std::make_unique<ThrottledFile>(below_.create(path), throttle_);
}

}  // namespace kestrum
