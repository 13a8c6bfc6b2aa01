// A place that misbehaves: full after so many bytes, or failing, under the real engine.
#pragma once

#include <functional>
#include <memory>

#include "kestrum/place/place.h"

namespace kestrum::test {

class FaultyPlace : public Place {
 public:
  explicit FaultyPlace(Place& below) : below_(below) {}

  // Bytes that can still be written before the disk is full.
  std::uint64_t room_left = UINT64_MAX;
  // Turns what is written into what the disk keeps.
  std::function<void(Bytes&)> tamper;

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
  Room room() override { return {room_left, room_left}; }

 private:
  Place& below_;
};

}  // namespace kestrum::test
