// Read-only snapshots of the filesystem that stand for parts of it while a walk reads them: the
// paths, devices and inode numbers that come out are those of the live tree.
#pragma once

#include <sys/stat.h>

#include <memory>
#include <set>
#include <string>
#include <vector>

#include "kestrum/base/file.h"

namespace kestrum {

// Of one subvolume.
struct TreeSnapshot {
  std::string live;               // the subvolume's top folder: absolute, without links
  dev_t live_device = 0;          // of what lies in the subvolume
  dev_t device = 0;               // of the same in the snapshot
  std::shared_ptr<const Fd> top;  // of the snapshot, open as a folder
};

// Of btrfs: the inode number of a subvolume's top folder (BTRFS_FIRST_FREE_OBJECTID of
// linux/btrfs_tree.h).
inline constexpr ino_t kSubvolumeTop = 256;

// Folders that are snapshots have a name that begins so; no walk enters one.
inline constexpr const char* kSnapshotPrefix = ".kestrum-snapshot-";

// Used by one thread at a time; what is pointed to moves with add().
class SnapshotView {
 public:
  // `mount_points`: absolute; what is mounted is not in a snapshot.
  void set_mount_points(std::vector<std::string> mount_points) {
    mount_points_ = {mount_points.begin(), mount_points.end()};
  }
  void add(TreeSnapshot snapshot) { snapshots_.push_back(std::move(snapshot)); }
  bool empty() const { return snapshots_.empty(); }

  // Something in a snapshot: a name in an open folder of it.
  struct Place {
    const TreeSnapshot* snapshot = nullptr;
    std::shared_ptr<const Fd> folder;
    std::string name;  // "": the folder itself
    struct stat st {};
    std::string live;  // where it is in the live tree: absolute, without links
    explicit operator bool() const { return snapshot != nullptr; }
  };
  // Where `name` of an open live folder, seen as `st`, lies in a snapshot; nothing if none has the
  // same there.
  Place find(int folder, const std::string& name, const struct stat& st) const;
  // The snapshot of the filesystem of this device; nullptr if there is none.
  const TreeSnapshot* of_device(dev_t live_device) const;

  // Whether a snapshot has but a stand-in for what lies in the live tree at the absolute path
  // `live`: another subvolume, or something mounted.
  bool is_elsewhere(const std::string& live, const struct stat& in_snapshot) const;

  // Where an open folder is: absolute, without links; empty if that cannot be told.
  static std::string path_of(int folder);
  // The live folder at this absolute path, to go on from; nothing, and errno, if it is not there.
  static std::shared_ptr<const Fd> live_folder(const std::string& live);

 private:
  Place place_in(const TreeSnapshot& snapshot, const std::string& live,
                 const struct stat& st) const;

  std::vector<TreeSnapshot> snapshots_;  // a subvolume that is mounted twice has two
  std::set<std::string> mount_points_;
};

// As the snapshot's file is told of: on the device of the live tree.
void make_live(const TreeSnapshot& snapshot, struct stat& st);

// Whether this is a snapshot of this program's, or what stands for one in another one.
bool is_snapshot_folder(const std::string& name, const struct stat& st);

}  // namespace kestrum
