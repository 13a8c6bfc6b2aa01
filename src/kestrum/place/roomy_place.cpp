#include "kestrum/place/roomy_place.h"

namespace kestrum {

template <typename Call>
auto RoomyPlace::insist(Call call) {
  for (;;) {
    try {
      return call();
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::kNoRoom || !make_room_()) throw;
    }
  }
}

class RoomyFile : public PlaceFile {
 public:
  RoomyFile(RoomyPlace& place, std::unique_ptr<PlaceFile> below)
      : place_(place), below_(std::move(below)) {}
  void write(ByteView bytes) override {
    place_.insist([&] { below_->write(bytes); });
    place_.written_ += bytes.size();
  }
  void sync() override { below_->sync(); }

 private:
  RoomyPlace& place_;
  std::unique_ptr<PlaceFile> below_;
};

void RoomyPlace::make_folder(const std::string& path) {
  insist([&] { below_.make_folder(path); });
}

std::unique_ptr<PlaceFile> RoomyPlace::create(const std::string& path) {
  return std::make_unique<RoomyFile>(*this, insist([&] { return below_.create(path); }));
}

}  // namespace kestrum
