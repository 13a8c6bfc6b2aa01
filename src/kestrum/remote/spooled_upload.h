// A file that is kept on this PC until it is whole, and then sent as one: for protocols that cannot
// go on with a file whose connection broke, and cut one that has nothing to send for a minute.
#pragma once

#include <memory>
#include <string>

#include "kestrum/base/file.h"
#include "kestrum/place/place.h"
#include "kestrum/remote/store.h"

namespace kestrum {

class SpooledUpload : public PlaceFile {
 public:
  // Kept in `folder`, without a name.
  SpooledUpload(std::shared_ptr<Store> store, std::string path, std::string name,
                const std::string& folder);
  // Throws Error(kFailed) if this PC's own disk has no room for it: the place is not to blame.
  void write(ByteView bytes) override;
  void sync() override;
  bool sync_again() const override { return true; }

 private:
  std::shared_ptr<Store> store_;
  std::string path_, name_;  // on the server, and as messages have it
  Fd file_;
  std::uint64_t size_ = 0;  // bytes
};

}  // namespace kestrum
