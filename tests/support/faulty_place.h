// A place that misbehaves: full after so many bytes, or failing, under the real engine.
#pragma once

#include <functional>
#include <memory>

#include "kestrum/place/place.h"

namespace kestrum::test {

class FaultyPlace : public ForwardingPlace {
 public:
  explicit FaultyPlace(Place& below) : ForwardingPlace(below) {}

  // Bytes that can still be written before the disk is full.
  std::uint64_t room_left = UINT64_MAX;
  // Turns what is written into what the disk keeps.
  std::function<void(Bytes&)> tamper;

  std::unique_ptr<PlaceFile> create(const std::string& path) override;
  std::optional<Room> room() override { return Room{room_left, room_left}; }
};

}  // namespace kestrum::test
