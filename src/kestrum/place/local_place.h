// A place that is a folder of this machine: a disk, or a share that the system has mounted.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "kestrum/base/file.h"
#include "kestrum/place/place.h"

namespace kestrum {

// The folder is held open: after the disk is unmounted, calls fail instead of
// reaching the empty folder beneath.
class LocalPlace : public Place {
 public:
  // The folder `folder` below `place`, or that itself. Links at `place` and above it are followed
  // where that is safe (base/followed.h), no others. Throws Error(kPlace) if it cannot be opened.
  explicit LocalPlace(const std::string& place, const std::string& folder = "");

  std::string describe() const override { return folder_; }
  bool exists(const std::string& path) override;
  std::vector<PlaceEntry> list(const std::string& path) override;
  void make_folder(const std::string& path) override;
  std::unique_ptr<PlaceFile> create(const std::string& path) override;
  std::unique_ptr<ByteSource> open(const std::string& path, bool from_disk) override;
  void rename(const std::string& from, const std::string& to) override;
  void remove_file(const std::string& path) override;
  void remove_folder(const std::string& path) override;
  void overwrite(const std::string& path) override;
  void sync_folder(const std::string& path) override;
  std::optional<Room> room() override;
  std::unique_ptr<PlaceHold> hold(const std::string& path) override;
  std::unique_ptr<PlaceHold> take(const std::string& path) override;

 private:
  std::unique_ptr<PlaceHold> lock(const std::string& path, int kind);
  std::string full(const std::string& path) const { return folder_ + "/" + path; }
  std::string folder_;
  Fd root_;
};

}  // namespace kestrum
