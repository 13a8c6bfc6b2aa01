#include "kestrum/access/let_go.h"

#include <fcntl.h>
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "kestrum/access/open_place.h"
#include "kestrum/access/shelf_lease.h"
#include "kestrum/base/below.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/place/address.h"
#include "kestrum/remote/remote_place.h"

namespace kestrum {
namespace {

bool has(const std::vector<std::string>& places, const std::string& place) {
  return std::find(places.begin(), places.end(), place) != places.end();
}

// shelf.json and the like, their signatures, and what a cut left of either.
bool is_of_shelf(std::string name) {
  for (const char* ending : {".old", ".new", ".minisig", ".new"}) {
    if (name.ends_with(ending)) name.resize(name.size() - std::string_view(ending).size());
  }
  return name == kLabelFile || name == kLeaseFile || name == kProbeFile || name == kRenamedProbe ||
         name == kLastRunFile || name == "job.toml" || name == "job.toml.age";
}

// Folders that are empty; of a server they stay.
void remove_empty(const std::string& place, std::string folder) {
  if (is_remote(place)) return;
  Fd root = open_named(place, O_PATH | O_DIRECTORY);
  while (root && !folder.empty() && below::remove_folder(root.get(), folder)) {
    folder = parent_of(folder);
  }
}

}  // namespace

PlaceToLeave place_to_leave(const MachineState& machine, const Job& job, const std::string& typed) {
  std::vector<ShelfState> states = machine.shelves(job.name);
  std::set<std::string> known(job.places.begin(), job.places.end());
  known.insert(job.copies.to.begin(), job.copies.to.end());
  for (const ShelfState& state : states) known.insert(state.record.place);
  std::vector<std::string> meant;
  for (const std::string& candidate : known) {
    if (is_place_called(candidate, typed)) meant.push_back(candidate);
  }
  if (meant.size() != 1) {
    std::string places;
    for (const std::string& one : meant.empty() ? std::vector(known.begin(), known.end()) : meant) {
      places += (places.empty() ? "" : ", ") + printable(one);
    }
    throw Error(ErrorKind::kUsage,
                fmt::format("{} is {} of {}", printable(typed),
                            meant.empty() ? "no place" : "the name of several places", job.name),
                (meant.empty() ? "its places: " : "say which: ") + places)
        .about_job(job.name);
  }
  PlaceToLeave leave;
  leave.place = meant[0];
  leave.is_named = has(job.places, leave.place);
  leave.is_only_one = leave.is_named && job.places.size() == 1;
  leave.is_for_a_copy = has(job.copies.to, leave.place);
  for (ShelfState& state : states) {
    if (state.record.place != leave.place) continue;
    bool newer = !leave.state || leave.state->record.last_seen < state.record.last_seen;
    if (newer) leave.state = std::move(state);
  }
  return leave;
}

std::string place_of_disk(const MachineState& machine, const Job& job, const std::string& typed) {
  if (typed.find('/') != std::string::npos) return place_named(typed);
  return place_to_leave(machine, job, typed).place;
}

bool leave_place(const JobStore& jobs, const Job& job, const std::string& place) {
  std::vector<std::pair<std::string, KeyValue>> values;
  std::vector<std::string> places = job.places, copies = job.copies.to;
  if (places.size() > 1 && std::erase(places, place) > 0) {
    values.emplace_back("destination.places", KeyValue(places));
  }
  if (std::erase(copies, place) > 0) values.emplace_back("copies.to", KeyValue(copies));
  return !values.empty() && jobs.edit(job.name, values);
}

ShelfToErase shelf_to_erase(const MachineState& machine, const Job& job, const std::string& place) {
  if (!is_place(place)) {
    throw Error(
        ErrorKind::kPlace, "not plugged in: " + printable(place),
        "plug it in; a disk that is lost: kestrum shelf drop " + job.name + " " + shell_word(place))
        .about_path(place);
  }
  std::vector<ShelfState> known = machine.shelves(job.name);
  for (ShelfState& state : machine.all_aside(job.name)) known.push_back(std::move(state));
  for (ShelfState& state : known) {
    const ShelfRecord& record = state.record;
    if (!seems_shelf(place, record.folder)) continue;
    std::shared_ptr<Place> disk = open_place(place, record.folder);
    ShelfLabel label = Shelf::read_label(*disk);
    if (label.shelf != record.shelf) continue;
    std::string path = place + "/" + record.folder;
    if (label.owner != machine.machine_id()) {
      throw Error(ErrorKind::kPlace, printable(path) + ": " + kTakenOver,
                  "whoever uses it now can erase it; nothing was done")
          .about_path(path);
    }
    ShelfToErase target{
        ShelfToErase::Kind::kShelf, place,
        OpenShelf{disk, Shelf(disk, std::move(label), record.keys.signers), std::nullopt, path}};
    const ShelfLabel& found = target.open.shelf.label();
    if (found.copy_of) {
      target.kind = ShelfToErase::Kind::kCopy;
    } else if (found.waits) {
      target.kind = ShelfToErase::Kind::kWaiting;
    } else if (is_former_home(found, record, place)) {
      bool filled =
          std::any_of(record.earlier.begin(), record.earlier.end(),
                      [&](const FormerDisk& former) { return former.disk.number == found.moves; });
      target.kind = filled ? ShelfToErase::Kind::kFilled : ShelfToErase::Kind::kFormerHome;
    }
    bool left = target.kind == ShelfToErase::Kind::kFormerHome ||
                target.kind == ShelfToErase::Kind::kFilled;
    if (!left && !target.open.shelf.label_signed()) {
      throw Error(ErrorKind::kDamage, path + "/shelf.json: it is not signed by this PC",
                  "somebody changed shelf.json; nothing was done")
          .about_path(path);
    }
    target.open.state = std::move(state);
    return target;
  }
  throw Error(ErrorKind::kPlace, fmt::format("{} has no shelf at {}", job.name, printable(place)),
              "what is where: kestrum shelf list " + job.name)
      .about_job(job.name)
      .about_path(place);
}

void check_erasable(const ShelfToErase& target) {
  Place& disk = *target.open.place;
  if (!disk.may_remove()) {
    throw Error(ErrorKind::kFailed, printable(target.open.path) + kMayNotRemove,
                "whoever looks after the server can; nothing was done")
        .about_path(target.open.path);
  }
  for (const ShelfSet& set : target.open.shelf.sets()) {
    if (disk.take(set.folder + "/" + kSealFile)) continue;
    throw Error(ErrorKind::kBusy, "somebody reads " + set.id.to_string() + " there",
                "nothing was done; end it, or wait")
        .about_path(target.open.path);
  }
}

std::vector<std::string> erase_shelf(const ShelfToErase& target, Observer& observer) {
  Place& disk = *target.open.place;
  std::optional<Error> first_error;  // told once all the others are overwritten
  for (const PlaceEntry& key : disk.list(kKeysFolder)) {
    if (key.is_folder) continue;
    try {
      disk.overwrite(std::string(kKeysFolder) + "/" + key.name);
    } catch (const Error& error) {
      if (!first_error) first_error = error;
    }
  }
  if (first_error) throw *first_error;
  disk.remove_folder(kKeysFolder);
  disk.sync_folder("");
  std::vector<std::string> others;
  std::vector<PlaceEntry> sets = disk.list(kSetsFolder);
  Progress progress{"erasing"};
  progress.files_total = sets.size();
  for (const PlaceEntry& entry : sets) {
    std::string path = std::string(kSetsFolder) + "/" + entry.name;
    progress.current = entry.name;
    observer.progress(progress);
    if (entry.is_folder && parse_set_folder(entry.name)) {
      disk.remove_folder(path);
    } else {
      others.push_back(path);
    }
    ++progress.files_done;
  }
  if (others.empty()) disk.remove_folder(kSetsFolder);
  for (const char* folder : {kHeadsFolder, kRetiredFolder}) disk.remove_folder(folder);
  std::vector<std::string> last;
  for (const PlaceEntry& entry : disk.list("")) {
    if (entry.is_folder && entry.name == kSetsFolder) continue;  // what is in it was told
    if (entry.is_folder || !is_of_shelf(entry.name)) {
      others.push_back(entry.name);
    } else if (entry.name.starts_with(kLabelFile)) {
      last.push_back(entry.name);
    } else {
      disk.remove_file(entry.name);
    }
  }
  disk.sync_folder("");
  for (const std::string& name : last) disk.remove_file(name);
  disk.sync_folder("");
  if (others.empty()) remove_empty(target.place, target.open.state->record.folder);
  return others;
}

}  // namespace kestrum
