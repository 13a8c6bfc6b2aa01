// A place on a server.
#pragma once

#include <atomic>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "kestrum/place/address.h"
#include "kestrum/place/place.h"
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
  std::uint64_t behind_writer() const override { return std::uint64_t{12} << 20; }
  void rename(const std::string& from, const std::string& to) override;
  void remove_file(const std::string& path) override;
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
  std::string free_aside(const std::string& path);
  void rename_there(const std::string& from, const std::string& to);
  // Instead of renaming a file: through this PC.
  void copy_there(const std::string& from, const std::string& to);
  void put_probe();

  // What fetch_ahead() got, until it is opened; nothing of a file that is not there.
  std::optional<std::optional<Bytes>> fetched(const std::string& path, bool keep);
  void fetch(const std::string& file);
  void fetch_list(const std::string& folder);
  void forget_fetched();
  void forget_old();  // with the mutex held
  bool knows_folder(const std::string& path);
  void note_folder(const std::string& path);
  void forget_folders();

  std::shared_ptr<Store> store_;
  std::mutex mutex_;
  std::optional<bool> may_remove_, may_rename_;
  std::map<std::string, std::optional<Bytes>> fetched_;
  std::map<std::string, std::vector<PlaceEntry>> listed_;  // the same of folders
  Nanos fetched_at_ = 0;
  std::atomic<Nanos> pace_ = 0;    // of one of them; 0: not known
  std::set<std::string> folders_;  // that are known to be there
  std::string root_, name_;
};

}  // namespace kestrum
