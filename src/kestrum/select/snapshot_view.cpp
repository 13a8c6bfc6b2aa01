#include "kestrum/select/snapshot_view.h"

#include <fcntl.h>
#include <limits.h>
#include <unistd.h>

#include <algorithm>

#include "kestrum/base/below.h"
#include "kestrum/base/followed.h"

namespace kestrum {
namespace {

// Of btrfs: what a snapshot shows in the place of another subvolume
// (BTRFS_EMPTY_SUBVOL_DIR_OBJECTID of linux/btrfs_tree.h).
constexpr ino_t kStandIn = 2;

}  // namespace

const TreeSnapshot* SnapshotView::of_device(dev_t live_device) const {
  auto it = std::find_if(snapshots_.begin(), snapshots_.end(), [&](const TreeSnapshot& snapshot) {
    return snapshot.live_device == live_device;
  });
  return it == snapshots_.end() ? nullptr : &*it;
}

SnapshotView::Place SnapshotView::find(int folder, const std::string& name,
                                       const struct stat& st) const {
  std::string live;
  for (const TreeSnapshot& snapshot : snapshots_) {
    if (snapshot.live_device != st.st_dev) continue;
    if (live.empty()) live = path_of(folder);
    if (live.empty()) break;
    if (Place place = place_in(snapshot, path_below(live, name), st)) return place;
  }
  return {};
}

SnapshotView::Place SnapshotView::place_in(const TreeSnapshot& snapshot, const std::string& live,
                                           const struct stat& st) const {
  if (!is_within(live, snapshot.live)) return {};
  Place place;
  place.live = live;
  if (live == snapshot.live) {
    place.folder = snapshot.top;
  } else {
    std::string rel = relative_to(live, snapshot.live);
    place.folder =
        std::make_shared<const Fd>(below::open_passage(snapshot.top->get(), folder_above(rel)));
    place.name = base_name(rel);
  }
  bool same = *place.folder && below::look(place.folder->get(), place.name, place.st) &&
              place.st.st_dev == snapshot.device && place.st.st_ino == st.st_ino &&
              (place.st.st_mode & S_IFMT) == (st.st_mode & S_IFMT);
  if (!same) return {};
  make_live(snapshot, place.st);
  place.snapshot = &snapshot;
  return place;
}

bool SnapshotView::is_elsewhere(const std::string& live, const struct stat& in_snapshot) const {
  bool stands_in = S_ISDIR(in_snapshot.st_mode) && in_snapshot.st_ino == kStandIn;
  return stands_in || mount_points_.contains(live);
}

std::string SnapshotView::path_of(int folder) {
  char buffer[PATH_MAX];
  std::string number = std::to_string(folder);
  ssize_t length = ::readlink(("/proc/self/fd/" + number).c_str(), buffer, sizeof buffer);
  bool whole = length > 0 && length < static_cast<ssize_t>(sizeof buffer) && buffer[0] == '/';
  return whole ? std::string(buffer, static_cast<std::size_t>(length)) : "";
}

std::shared_ptr<const Fd> SnapshotView::live_folder(const std::string& live) {
  Fd top = open_named("/", O_PATH | O_DIRECTORY);
  return std::make_shared<const Fd>(below::open_passage(top.get(), live.substr(1)));
}

void make_live(const TreeSnapshot& snapshot, struct stat& st) {
  if (st.st_dev == snapshot.device) st.st_dev = snapshot.live_device;
}

bool is_snapshot_folder(const std::string& name, const struct stat& st) {
  return S_ISDIR(st.st_mode) && (st.st_ino == kSubvolumeTop || st.st_ino == kStandIn) &&
         base_name(name).starts_with(kSnapshotPrefix);
}

}  // namespace kestrum
