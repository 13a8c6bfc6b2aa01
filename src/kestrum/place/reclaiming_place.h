// A place that asks for room to be made when its disk is full, and goes on with the same write.
#pragma once

#include <atomic>
#include <functional>
#include <utility>

#include "kestrum/base/error.h"
#include "kestrum/place/place.h"

namespace kestrum {

class ReclaimingPlace : public ForwardingPlace {
 public:
  // `make_room` is called by the thread that writes; false: there is none to be had. `below`
  // outlives the place, the place the files it made.
  ReclaimingPlace(Place& below, std::function<bool()> make_room)
      : ForwardingPlace(below), make_room_(std::move(make_room)) {}

  void make_folder(const std::string& path) override;
  std::unique_ptr<PlaceFile> create(const std::string& path) override;

  std::uint64_t written() const { return written_; }  // bytes

 private:
  friend class ReclaimingFile;
  // Until it succeeds, fails otherwise, or no room can be made.
  template <typename Call>
  auto insist(Call call);

  std::function<bool()> make_room_;
  std::atomic<std::uint64_t> written_ = 0;
};

}  // namespace kestrum
