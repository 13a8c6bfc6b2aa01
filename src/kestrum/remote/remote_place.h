// A place on a server.
#pragma once

#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/place/address.h"
#include "kestrum/place/place.h"
#include "kestrum/remote/crew.h"
#include "kestrum/remote/kept_ahead.h"
#include "kestrum/remote/store.h"

namespace kestrum {

inline constexpr const char* kProbeFile = "probe";  // of may_remove() and may_rename()
inline constexpr const char* kRenamedProbe = "probe-2";

// What the server has acknowledged counts as written: syncs of folders do nothing. No server
// promises to replace one file by another at one stroke, so what is replaced is kept aside as
// NAME.old until the other has its name; a cut in between is seen by nobody, since NAME is then
// read from there; one that a cut left behind is hidden by NAME. Where the account may not remove
// it, NAME.old2 and so on follow, and the last one counts. Nothing is held for reading.
class RemotePlace : public Place {
 public:
  // The folder `folder` below the address. Nothing is asked of the server yet.
  explicit RemotePlace(const RemoteAddress& address, const std::string& folder = "");

  std::string describe() const override { return name_; }
  bool exists(const std::string& path) override;
  std::vector<PlaceEntry> list(const std::string& path) override;
  void make_folder(const std::string& path) override;
  std::unique_ptr<PlaceFile> create(const std::string& path) override;
  std::unique_ptr<ByteSource> open(const std::string& path, bool from_disk) override;
  std::unique_ptr<ByteSource> open_whole(const std::string& path, std::uint64_t limit,
                                         bool from_disk) override;
  void fetch_ahead(const std::vector<std::string>& files,
                   const std::vector<std::string>& folders) override;
  bool is_far() const override { return true; }
  std::uint64_t behind_writer() const override { return std::uint64_t{12} << 20; }
  bool follow(const std::string& path, const Following& following) override;
  void rename(const std::string& from, const std::string& to) override;
  void remove_file(const std::string& path) override;
  void remove_files(const std::vector<std::string>& paths) override;
  void remove_folder(const std::string& path) override;
  // Tried out once, by a file that stays where it cannot be removed.
  bool may_remove() override;
  // The same.
  bool may_rename() override;
  void sync_folder(const std::string&) override {}
  std::optional<Room> room() override;
  std::unique_ptr<PlaceHold> hold(const std::string& path) override;
  std::unique_ptr<PlaceHold> take(const std::string& path) override;

 private:
  std::string at(const std::string& path) const;    // on the server
  std::string full(const std::string& path) const;  // as messages name it
  std::optional<std::uint64_t> size(const std::string& path);
  static std::vector<PlaceEntry> shown_of(std::vector<PlaceEntry> found);
  // The name that holds what was replaced last; nothing if there is none.
  std::optional<std::string> newest_aside(const std::string& path);
  // Removes a file; false where that is refused.
  bool may_be_gone(const std::string& path);
  // A name for what is replaced now.
  std::string free_aside(const std::string& path, const std::optional<std::string>& newest);
  void rename_there(const std::string& from, const std::string& to);
  // Instead of renaming a file: through this PC.
  void copy_there(const std::string& from, const std::string& to);
  void put_probe();

  void fetch(const std::string& file);
  void fetch_list(const std::string& folder);
  void forget_fetched();
  // A file that was got ahead; nullptr if it was not, or is not there.
  std::unique_ptr<ByteSource> taken_ahead(const std::string& path, bool from_disk);

  std::shared_ptr<Store> store_;
  Crew crew_;
  std::mutex mutex_;
  std::optional<bool> may_remove_, may_rename_;
  KeptAhead<std::optional<Bytes>> files_;  // by fetch_ahead(); nothing of one that is not there
  KeptAhead<std::vector<PlaceEntry>> lists_;
  std::string root_, name_;
};

}  // namespace kestrum
