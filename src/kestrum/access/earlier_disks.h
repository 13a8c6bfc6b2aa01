// The disks that a shelf was on before it went on to another (docs/format.md, "A shelf over several
// disks").
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "kestrum/base/nanos.h"
#include "kestrum/chain/set_id.h"
#include "kestrum/place/place.h"
#include "kestrum/shelf/label.h"
#include "kestrum/shelf/seal.h"

namespace kestrum {

// All disks of a shelf. Used by any thread.
class EarlierDisks {
 public:
  // `label` is of the disk that the shelf is on now, where it is the folder `home` of the place
  // `on`; `likely` are other places to look at for those that it was on.
  EarlierDisks(ShelfLabel label, std::string on, std::shared_ptr<Place> home,
               std::vector<std::string> likely);

  const std::vector<EarlierDisk>& all() const { return label_.earlier; }
  std::uint64_t home_number() const { return label_.moves; }
  // The shelf's folder on one of them, if it is plugged in.
  std::shared_ptr<Place> find(std::uint64_t number);
  // The one that it is on now; throws Error(kPlace) if that was let go of and is not there again.
  std::shared_ptr<Place> home();
  // Numbers of those that are plugged in, the one that it is on now among them.
  std::set<std::uint64_t> plugged_in();
  // Of the disk that a part lies on, by what its seal says.
  std::uint64_t holder(const Seal& seal, const PartInfo& part) const;
  // What one is called.
  std::string name(std::uint64_t number) const;
  // Names of those that are not plugged in, separated by commas; empty if all are.
  std::string away();
  // Closes them all, so that they can be unmounted and taken out. They are opened again when they
  // are needed.
  void let_go();

 private:
  std::vector<std::string> candidates() const;
  bool is_it(const std::string& place, std::uint64_t number) const;

  ShelfLabel label_;
  std::string on_, folder_;
  std::vector<std::string> likely_;
  std::recursive_mutex mutex_;
  std::map<std::uint64_t, std::shared_ptr<Place>> found_;
  std::map<std::uint64_t, Nanos> looked_;  // when it was looked at, whatever was seen
};

// The shelf as one folder: parts that are not on the disk that it is on now are read from those it
// was on. Whatever is written goes to the one that it is on now; a set's folder is removed from
// all. Where a set was begun more than once, several disks hold parts of the same names: the seal
// says which of them is the set's.
class SpannedPlace : public Place {
 public:
  explicit SpannedPlace(std::shared_ptr<EarlierDisks> disks) : disks_(std::move(disks)) {}

  std::string describe() const override { return home().describe(); }
  bool exists(const std::string& path) override;
  // Of a set's folder also what earlier disks have of it.
  std::vector<PlaceEntry> list(const std::string& path) override;
  void make_folder(const std::string& path) override { home().make_folder(path); }
  std::unique_ptr<PlaceFile> create(const std::string& path) override {
    return home().create(path);
  }
  // Throws Error(kPlace) naming the disks, if it is on none that is plugged in and others are not.
  std::unique_ptr<ByteSource> open(const std::string& path, bool from_disk) override;
  void fetch_ahead(const std::vector<std::string>& files,
                   const std::vector<std::string>& folders) override {
    home().fetch_ahead(files, folders);
  }
  bool is_far() const override { return home().is_far(); }
  std::uint64_t behind_writer() const override { return home().behind_writer(); }
  bool follow(const std::string& path, const Following& following) override {
    return home().follow(path, following);
  }
  void rename(const std::string& from, const std::string& to) override { home().rename(from, to); }
  void remove_file(const std::string& path) override { home().remove_file(path); }
  // Throws what the earlier disks say, before the one that the shelf is on now is touched. What
  // they have stays while there is another folder of that set.
  void remove_folder(const std::string& path) override;
  bool may_remove() override { return home().may_remove(); }
  bool may_rename() override { return home().may_rename(); }
  void overwrite(const std::string& path) override { home().overwrite(path); }
  void sync_folder(const std::string& path) override { home().sync_folder(path); }
  std::optional<Room> room() override { return home().room(); }
  std::unique_ptr<PlaceHold> hold(const std::string& path) override { return home().hold(path); }
  std::unique_ptr<PlaceHold> take(const std::string& path) override { return home().take(path); }

 private:
  struct Found {
    std::shared_ptr<Place> disk;  // nullptr: there is none
    std::uint64_t number = 0;     // the disk's
    std::string path;
    std::uint64_t size = 0;  // bytes, where it was listed
  };
  struct SealedPart {
    std::uint64_t disk = 0;
    PartInfo info;
    std::string path;  // on it, once its content was compared; else empty
  };
  Place& home() const { return *disks_->home(); }
  Found find(const std::string& path);
  std::vector<Found> folders_of(SetId set);
  bool has_another(SetId set, const std::string& path) const;
  std::optional<SealedPart> sealed(const std::string& path);
  Found chosen(const std::string& path, std::vector<Found> files,
               const std::optional<SealedPart>& part);

  std::shared_ptr<EarlierDisks> disks_;
  std::mutex mutex_;
  std::map<std::string, std::map<std::string, SealedPart>> seals_;  // by folder, by name
};

}  // namespace kestrum
