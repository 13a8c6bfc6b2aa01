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
#include "kestrum/shelf/document.h"
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

std::uint64_t EarlierDisks::holder(const Seal& seal, const PartInfo& part) const {
  const EarlierDisk* disk = label_.lies_on(seal.number, part.disk);
  return disk != nullptr ? disk->number : label_.moves;
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
      if (there && there->id == set) {
        folders.push_back({disk, known.number, kBelowSets + entry.name, 0});
      }
    }
  }
  return folders;
}

// What the seal of its set says of a part. Nothing where there is none, or none that can be read:
// who reads the set tells of that.
std::optional<SpannedPlace::SealedPart> SpannedPlace::sealed(const std::string& path) {
  std::string folder = folder_above(path), file = folder + "/" + kSealFile;
  std::lock_guard lock(mutex_);
  auto known = seals_.find(folder);
  if (known == seals_.end()) {
    try {
      std::shared_ptr<Place> home = disks_->find(disks_->home_number());
      if (!home || !home->exists(file)) return std::nullopt;
      Seal seal = Seal::parse(read_small(*home, file, kSealLimit), file);
      std::map<std::string, SealedPart> parts;
      for (const PartInfo& part : seal.parts) {
        parts[part.name] = {disks_->holder(seal, part), part, ""};
      }
      known = seals_.emplace(folder, std::move(parts)).first;
    } catch (const Error&) {
      return std::nullopt;
    }
  }
  auto part = known->second.find(base_name(path));
  if (part == known->second.end()) return std::nullopt;
  return part->second;
}

// Of files of one name, where there are any, the one that is meant. None where the disk that it is
// to be on is not there, and no other holds the same.
SpannedPlace::Found SpannedPlace::chosen(const std::string& path, std::vector<Found> files,
                                         const std::optional<SealedPart>& part) {
  if (files.empty()) return {};
  if (!part) return files.front();
  auto others = std::stable_partition(files.begin(), files.end(), [&](const Found& file) {
    return file.number == part->disk && (part->path.empty() || file.path == part->path);
  });
  if (others - files.begin() == 1) return files.front();
  if (others == files.begin() && !disks_->find(part->disk)) return {};
  for (const Found& file : files) {
    try {
      auto there = file.disk->open(file.path);
      bool same =
          there->size() == part->info.bytes && stored_digest_of(*there) == part->info.digest;
      if (!same) continue;
      std::lock_guard lock(mutex_);
      seals_[folder_above(path)][base_name(path)] = {file.number, part->info, file.path};
      return file;
    } catch (const Error&) {  // it is not this one
    }
  }
  return others == files.begin() ? Found() : files.front();
}

// Of a part.
SpannedPlace::Found SpannedPlace::find(const std::string& path) {
  std::shared_ptr<Place> home = disks_->find(disks_->home_number());
  bool here = home && home->exists(path);
  std::vector<Found> files;
  if (here) files.push_back({home, disks_->home_number(), path, 0});
  auto set = set_of(folder_above(path));
  auto part = set ? sealed(path) : std::nullopt;
  if (here && (!part || part->disk == disks_->home_number())) return files.front();
  if (!set) return {};
  for (Found& file : folders_of(*set)) {
    file.path += "/" + base_name(path);
    if (file.disk->exists(file.path)) files.push_back(std::move(file));
  }
  return chosen(path, std::move(files), part);
}

bool SpannedPlace::exists(const std::string& path) {
  return is_part(path) ? find(path).disk != nullptr : home().exists(path);
}

std::vector<PlaceEntry> SpannedPlace::list(const std::string& path) {
  std::vector<PlaceEntry> entries = home().list(path);
  auto set = set_of(path);
  if (!set) return entries;
  std::map<std::string, std::vector<Found>> elsewhere;  // parts, by name
  for (const Found& folder : folders_of(*set)) {
    for (const PlaceEntry& entry : folder.disk->list(folder.path)) {
      std::string file = folder.path + "/" + entry.name;
      if (!is_part(file)) continue;
      elsewhere[entry.name].push_back({folder.disk, folder.number, file, entry.size});
    }
  }
  std::erase_if(entries, [&](const PlaceEntry& entry) {
    auto also = elsewhere.find(entry.name);
    if (also == elsewhere.end()) return false;
    also->second.insert(also->second.begin(), {disks_->home(), disks_->home_number(),
                                               path + "/" + entry.name, entry.size});
    return true;
  });
  for (auto& [name, files] : elsewhere) {
    std::string part = path + "/" + name;
    Found file = chosen(part, std::move(files), sealed(part));
    if (file.disk) entries.push_back({name, false, file.size});
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

// Whether there is another folder of a set where the shelf is now.
bool SpannedPlace::has_another(SetId set, const std::string& path) const {
  std::vector<PlaceEntry> entries = home().list(kSetsFolder);
  return std::any_of(entries.begin(), entries.end(), [&](const PlaceEntry& entry) {
    std::string folder = kBelowSets + entry.name;
    return entry.is_folder && folder != path && set_of(folder) == set;
  });
}

void SpannedPlace::remove_folder(const std::string& path) {
  auto set = set_of(path);
  // Of two attempts at one set nobody can tell which one the parts on other disks belong to.
  if (set && !has_another(*set, path)) {
    for (const Found& folder : folders_of(*set)) {
      folder.disk->remove_folder(folder.path);
      folder.disk->sync_folder(kSetsFolder);
    }
  }
  home().remove_folder(path);
}

}  // namespace kestrum
