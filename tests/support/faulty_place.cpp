#include "support/faulty_place.h"

#include <cerrno>

#include "kestrum/base/error.h"

namespace kestrum::test {
namespace {

class FaultyFile : public PlaceFile {
 public:
  FaultyFile(FaultyPlace& place, std::unique_ptr<PlaceFile> below)
      : place_(place), below_(std::move(below)) {}
  void write(ByteView bytes) override {
    if (bytes.size() > place_.room_left) throw system_error(ENOSPC, "part");
    if (place_.room_left != UINT64_MAX) place_.room_left -= bytes.size();
    Bytes kept(bytes.begin(), bytes.end());
    if (place_.tamper) place_.tamper(kept);
    below_->write(kept);
  }
  void sync() override { below_->sync(); }

 private:
  FaultyPlace& place_;
  std::unique_ptr<PlaceFile> below_;
};

}  // namespace

std::unique_ptr<PlaceFile> FaultyPlace::create(const std::string& path) {
  return std::make_unique<FaultyFile>(*this, below_.create(path));
}

}  // namespace kestrum::test
