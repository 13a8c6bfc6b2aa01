// A place that is written to at a limited rate.
#pragma once

#include <functional>
#include <memory>
#include <mutex>

#include "kestrum/base/clock.h"
#include "kestrum/place/place.h"

namespace kestrum {

// Lets bytes through at a rate, evenly: none is owed and none is saved up for later.
class Throttle {
 public:
  // `stop` is asked while waiting; true lets the rest through at full speed.
  Throttle(std::uint64_t bytes_a_second, std::function<bool()> stop)
      : rate_(bytes_a_second), stop_(std::move(stop)) {}
  // How many bytes are best passed at once, then waited for.
  std::size_t portion() const;
  // Returns when so many bytes may have passed.
  void pass(std::size_t bytes);

 private:
  std::uint64_t rate_;
  std::function<bool()> stop_;
  Nanos free_at_ = 0;
};

class ThrottledPlace : public ForwardingPlace {
 public:
  // `below` outlives it. Only what is written is held back, not what is read.
  ThrottledPlace(Place& below, std::uint64_t bytes_a_second, std::function<bool()> stop)
      : ForwardingPlace(below), throttle_(bytes_a_second, std::move(stop)) {}
  std::unique_ptr<PlaceFile> create(const std::string& path) override;

 private:
  Throttle throttle_;
};

}  // namespace kestrum
