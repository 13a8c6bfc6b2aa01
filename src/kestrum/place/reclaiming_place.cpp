#include "kestrum/place/reclaiming_place.h"

namespace kestrum {

template <typename Call>
auto ReclaimingPlace::insist(Call call) {
  for (;;) {
    try {
      return call();
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::kNoRoom || !make_room_()) throw;
    }
  }
}

class ReclaimingFile : public PlaceFile {
 public:
  ReclaimingFile(ReclaimingPlace& place, std::unique_ptr<PlaceFile> below)
      : place_(place), below_(std::move(below)) {}
  void write(ByteView bytes) override {
    place_.insist([&] { below_->write(bytes); });
    place_.written_ += bytes.size();
  }
  void end() override { below_->end(); }
  void sync() override {
    if (!below_->sync_again()) return below_->sync();
    place_.insist([&] { below_->sync(); });
  }
  bool sync_again() const override { return below_->sync_again(); }

 private:
  ReclaimingPlace& place_;
  std::unique_ptr<PlaceFile> below_;
};

void ReclaimingPlace::make_folder(const std::string& path) {
  insist([&] { below_.make_folder(path); });
}

std::unique_ptr<PlaceFile> ReclaimingPlace::create(const std::string& path) {
  return std::make_unique<ReclaimingFile>(*this, insist([&] { return below_.create(path); }));
}

}  // namespace kestrum
