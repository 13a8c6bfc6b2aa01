#include "kestrum/access/earlier_disks.h"

#include <algorithm>
#include <set>
#include <utility>

#include "kestrum/access/open_place.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/place/address.h"
#include "kestrum/place/local_place.h"
#include "kestrum/place/mounts.h"
#include "kestrum/shelf/shelf.h"

namespace kestrum {
namespace {

constexpr Nanos kLookedAgain = kSecond;  // what is plugged in is looked at

const std::string kBelowSets = std::string(kSetsFolder) + "/";

// The set whose folder a path is.
std::optional<SetId> set_of(const std::string& path) {
  if (!path.starts_with(kBelowSets)) return std::nullopt;
  auto folder = parse_set_folder(path.substr(kBelowSets.size()));
  if (!folder) return std::nullopt;
  return folder->id;
}

bool is_part(const std::string& path) {
  return path.starts_with(kBelowSets) && base_name(path).starts_with(kPartPrefix);
}

// The folders of a place next to which others may be: /media has one for each disk.
void add_neighbours(const std::string& place, std::vector<std::string>& places) {
  if (is_remote(place)) return;
  std::string above = parent_of(place);
  if (above.size() <= 1 || is_on_share(above)) return;
  try {
    for (const PlaceEntry& entry : LocalPlace(above).list("")) {
      if (!entry.is_folder || entry.name.starts_with('.')) continue;
      std::string neighbour = path_below(above, entry.name);
      if (!is_on_share(neighbour)) places.push_back(std::move(neighbour));
    }
  } catch (const Error&) {  // not to be read: what is named is looked at
  }
}

}  // namespace

EarlierDisks::EarlierDisks(ShelfLabel label, std::string on, std::shared_ptr<Place> home,
                           std::vector<std::string> likely)
    : label_(std::move(label)),
      on_(std::move(on)),
      folder_(label_.host + "/" + label_.job),
      likely_(std::move(likely)) {
  found_[label_.moves] = std::move(home);
}

std::vector<std::string> EarlierDisks::candidates() const {
  std::vector<std::string> places = likely_;
  places.push_back(on_);
  add_neighbours(on_, places);
  for (const std::string& place : likely_) add_neighbours(place, places);
  for (const MountedDisk& disk : mounted_disks()) {
    if (disk.is_share) continue;
    for (std::string& folder : where_on(disk, is_remote(on_) ? "/" : on_)) {
      places.push_back(std::move(folder));
    }
  }
  return places;
}

bool EarlierDisks::is_it(const std::string& place, std::uint64_t number) const {
  try {
    if (!is_place(place)) return false;
    ShelfLabel label = Shelf::read_label(*open_place(place, folder_));
    return label.shelf == label_.shelf && label.moves == number && !label.copy_of && !label.waits;
  } catch (const Error&) {  // it may be anybody's disk
    return false;
  }
}

std::shared_ptr<Place> EarlierDisks::find(std::uint64_t number) {
  std::lock_guard lock(mutex_);
  auto known = found_.find(number);
  Nanos now = steady_now(), &looked = looked_[number];
  if (looked != 0 && now - looked < kLookedAgain) {
    return known == found_.end() ? nullptr : known->second;
  }
  looked = now;
  if (known != found_.end()) {
    // By the disk itself: the system may still know the names that were on it.
    try {
      Bytes start(1);
      known->second->open(kLabelFile, true)->read_at(0, start);
      return known->second;
    } catch (const Error&) {
      found_.erase(known);
    }
  }
  for (const std::string& place : candidates()) {
    if (is_it(place, number)) return found_[number] = open_place(place, folder_);
  }
  return nullptr;
}

std::shared_ptr<Place> EarlierDisks::home() {
  std::lock_guard lock(mutex_);
  // What goes wrong on it is told as on any shelf.
  auto known = found_.find(label_.moves);
  if (known != found_.end()) return known->second;
  if (auto again = find(label_.moves)) return again;
  throw Error(ErrorKind::kPlace, "not plugged in: " + printable(name(label_.moves)),
              "it is expected at " + printable(on_))
      .about_path(on_)
      .may_come();
}

std::set<std::uint64_t> EarlierDisks::plugged_in() {
  std::set<std::uint64_t> numbers;
  if (find(label_.moves)) numbers.insert(label_.moves);
  for (const EarlierDisk& disk : all()) {
    if (find(disk.number)) numbers.insert(disk.number);
  }
  return numbers;
}

std::string EarlierDisks::name(std::uint64_t number) const {
  const EarlierDisk* disk = label_.earlier_disk(number);
  return disk != nullptr ? disk->name : disk_name(on_, label_.moves, label_.earlier);
}

std::string EarlierDisks::away() {
  std::string names;
  for (const EarlierDisk& disk : all()) {
    if (!find(disk.number)) names += (names.empty() ? "" : ", ") + printable(disk.name);
  }
  return names;
}

void EarlierDisks::let_go() {
  std::lock_guard lock(mutex_);
  found_.clear();
  looked_.clear();
}

// A set's folder may have another name on the disk that it was begun on: only the disk on which it
// was sealed gives it the last one.
std::vector<SpannedPlace::Found> SpannedPlace::folders_of(SetId set) {
  std::vector<Found> folders;
  for (const EarlierDisk& known : disks_->all()) {
    std::shared_ptr<Place> disk = disks_->find(known.number);
    if (!disk) continue;
    for (const PlaceEntry& entry : disk->list(kSetsFolder)) {
      auto there = entry.is_folder ? parse_set_folder(entry.name) : std::nullopt;
      if (there && there->id == set) folders.push_back({disk, kBelowSets + entry.name});
    }
  }
  return folders;
}

// Of a part.
SpannedPlace::Found SpannedPlace::find(const std::string& path) {
  std::shared_ptr<Place> home = disks_->find(disks_->home_number());
  if (home && home->exists(path)) return {home, path};
  auto set = set_of(folder_above(path));
  if (!set) return {};
  for (const Found& folder : folders_of(*set)) {
    std::string file = folder.path + "/" + base_name(path);
    if (folder.disk->exists(file)) return {folder.disk, file};
  }
  return {};
}

bool SpannedPlace::exists(const std::string& path) {
  return is_part(path) ? find(path).disk != nullptr : home().exists(path);
}

std::vector<PlaceEntry> SpannedPlace::list(const std::string& path) {
  std::vector<PlaceEntry> entries = home().list(path);
  auto set = set_of(path);
  if (!set) return entries;
  std::set<std::string> names;
  for (const PlaceEntry& entry : entries) names.insert(entry.name);
  for (const Found& folder : folders_of(*set)) {
    for (PlaceEntry& entry : folder.disk->list(folder.path)) {
      bool more = is_part(folder.path + "/" + entry.name) && names.insert(entry.name).second;
      if (more) entries.push_back(std::move(entry));
    }
  }
  std::sort(entries.begin(), entries.end(),
            [](const PlaceEntry& a, const PlaceEntry& b) { return a.name < b.name; });
  return entries;
}

std::unique_ptr<ByteSource> SpannedPlace::open(const std::string& path, bool from_disk) {
  if (!is_part(path)) return home().open(path, from_disk);
  if (Found found = find(path); found.disk) return found.disk->open(found.path, from_disk);
  std::string away = disks_->away();
  if (away.empty()) return home().open(path, from_disk);  // which says what is wrong
  throw Error(ErrorKind::kPlace,
              path.substr(kBelowSets.size()) + " is not on this disk; not plugged in: " + away,
              "the shelf goes over several disks: plug in the one that is missing")
      .about_path(path)
      .may_come();
}

void SpannedPlace::remove_folder(const std::string& path) {
  if (auto set = set_of(path)) {
    for (const Found& folder : folders_of(*set)) {
      folder.disk->remove_folder(folder.path);
      folder.disk->sync_folder(kSetsFolder);
    }
  }
  home().remove_folder(path);
}

}  // namespace kestrum
