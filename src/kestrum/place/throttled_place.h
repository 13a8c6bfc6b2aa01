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
  // `stop` is asked while waiting; true ends the wait with Error(kStopped).
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

class ThrottledPlace : public Place {
 public:
  // `below` outlives it. Only what is written is held back, not what is read.
  ThrottledPlace(Place& below, std::uint64_t bytes_a_second, std::function<bool()> stop)
      : below_(below), throttle_(bytes_a_second, std::move(stop)) {}

  std::string describe() const override { return below_.describe(); }
  bool exists(const std::string& path) override { return below_.exists(path); }
  std::vector<PlaceEntry> list(const std::string& path) override { return below_.list(path); }
  void make_folder(const std::string& path) override { below_.make_folder(path); }
  std::unique_ptr<PlaceFile> create(const std::string& path) override;
  std::unique_ptr<ByteSource> open(const std::string& path, bool from_disk) override {
    return below_.open(path, from_disk);
  }
  void rename(const std::string& from, const std::string& to) override { below_.rename(from, to); }
  void remove_file(const std::string& path) override { below_.remove_file(path); }
  void remove_folder(const std::string& path) override { below_.remove_folder(path); }
  void sync_folder(const std::string& path) override { below_.sync_folder(path); }
  Room room() override { return below_.room(); }

 private:
  Place& below_;
  Throttle throttle_;
};

}  // namespace kestrum
