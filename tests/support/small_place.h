// A disk of a few hundred kilobytes, under the engine in the test's process.
#pragma once

#include <algorithm>
#include <cerrno>
#include <filesystem>
#include <memory>
#include <string>

#include "kestrum/access/open_place.h"
#include "kestrum/base/error.h"
#include "kestrum/place/local_place.h"

namespace kestrum::test {

inline std::uint64_t bytes_below(const std::string& folder) {
  std::uint64_t sum = 0;
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder)) {
    if (entry.is_regular_file()) sum += entry.file_size();
  }
  return sum;
}

// A disk that is full with so many bytes on it.
class SmallPlace : public ForwardingPlace {
 public:
  SmallPlace(std::shared_ptr<Place> below, std::string folder, std::uint64_t size)
      : ForwardingPlace(*below),
        owner_(std::move(below)),
        folder_(std::move(folder)),
        size_(size) {}

  std::unique_ptr<PlaceFile> create(const std::string& path) override {
    return std::make_unique<File>(*this, below_.create(path));
  }
  std::optional<Room> room() override { return Room{free(), size_}; }

 private:
  class File : public PlaceFile {
   public:
    File(SmallPlace& place, std::unique_ptr<PlaceFile> below)
        : place_(place), below_(std::move(below)) {}
    void write(ByteView bytes) override {
      if (bytes.size() > place_.free()) throw system_error(ENOSPC, place_.folder_);
      below_->write(bytes);
    }
    void sync() override { below_->sync(); }

   private:
    SmallPlace& place_;
    std::unique_ptr<PlaceFile> below_;
  };
  std::uint64_t free() const { return size_ - std::min(size_, bytes_below(folder_)); }

  std::shared_ptr<Place> owner_;
  std::string folder_;
  std::uint64_t size_;
};

// For set_place_opener: every shelf of the job "desk" is on a disk of that size of its own.
inline PlaceOpener on_small_disks(std::uint64_t size) {
  return [size](const std::string& folder) -> std::shared_ptr<Place> {
    auto below = std::make_shared<LocalPlace>(folder);
    if (!folder.ends_with("/desk")) return below;
    return std::make_shared<SmallPlace>(below, folder, size);
  };
}

}  // namespace kestrum::test
