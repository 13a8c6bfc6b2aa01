#include "kestrum/access/next_disk.h"

#include <algorithm>

#include "kestrum/access/change_keys.h"
#include "kestrum/access/find_shelf.h"
#include "kestrum/access/move_shelf.h"
#include "kestrum/access/open_place.h"
#include "kestrum/access/start_shelf.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/uuid.h"
#include "kestrum/place/address.h"
#include "kestrum/place/local_place.h"
#include "kestrum/shelf/document.h"

namespace kestrum {
namespace {

void copy_document(Place& from, Place& to, const std::string& path) {
  auto source = from.open(path);
  BlockDigester digester;
  copy_bytes(*source, *to.create(path), [&](ByteView piece) { digester.update(piece); });
  read_back(to, path, source->size(), digest_of_blocks(digester.finish()));
}

bool is_the_same(Place& from, Place& to, const PlaceEntry& entry, const std::string& path) {
  if (!to.exists(path)) return false;
  auto there = to.open(path, true);
  return there->size() == entry.size &&
         stored_digest_of(*there) == stored_digest_of(*from.open(path));
}

// What cannot be read, twice, is left out: whoever looks for it on the next disk tells of it as
// damaged.
void bring(Place& from, Place& to, const PlaceEntry& entry, const std::string& path) {
  constexpr int kTries = 2;
  for (int i = 0; i < kTries; ++i) {
    try {
      if (!is_the_same(from, to, entry, path)) copy_document(from, to, path);
      return;
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace || error.kind() == ErrorKind::kNoRoom) throw;
    }
  }
  to.remove_file(path);
}

// The files of a folder that `goes_along` says yes to.
void copy_files(Place& from, Place& to, const std::string& folder,
                const std::function<bool(const std::string& name)>& goes_along) {
  if (!folder.empty()) to.make_folder(folder);
  for (const PlaceEntry& entry : from.list(folder)) {
    if (entry.is_folder || !goes_along(entry.name)) continue;
    bring(from, to, entry, folder.empty() ? entry.name : folder + "/" + entry.name);
  }
  to.sync_folder(folder);
}

bool is_sealed(Place& place, const std::string& folder) {
  return place.exists(folder + "/" + kSealFile);
}

// What a shelf consists of, but for its label, unfinished sets and parts. Others may have put
// anything beside it.
void copy_documents(Place& from, Place& to) {
  auto of_set = [](const std::string& name) { return !name.starts_with(kPartPrefix); };
  auto of_shelf = [](const std::string& name) {
    return name.starts_with("job.toml") || name == kLastRunFile;
  };
  auto all = [](const std::string&) { return true; };
  to.make_folder(kSetsFolder);
  for (const PlaceEntry& entry : from.list(kSetsFolder)) {
    auto set = entry.is_folder ? parse_set_folder(entry.name) : std::nullopt;
    if (!set || set->state == SetFolder::State::kRemoving) continue;
    std::string folder = std::string(kSetsFolder) + "/" + entry.name;
    // Where nothing can be renamed a set that is sealed is still called unfinished.
    bool counts = set->state == SetFolder::State::kPlain || is_sealed(from, folder);
    if (counts) copy_files(from, to, folder, of_set);
  }
  to.sync_folder(kSetsFolder);
  copy_files(from, to, "", of_shelf);
  for (const char* folder : {kKeysFolder, kHeadsFolder, kRetiredFolder}) {
    if (from.exists(folder)) copy_files(from, to, folder, all);
  }
}

bool is_waiting(const ShelfLabel& label, const ShelfRecord& record) {
  return label.waits && label.shelf == record.shelf;
}

// Of the disk that waits at a place; nothing if none does.
std::optional<ShelfLabel> waiting_label(const ShelfRecord& record, const std::string& place) {
  if (!is_place(place) || !seems_shelf(place, record.folder)) return std::nullopt;
  ShelfLabel label = Shelf::read_label(*open_place(place, record.folder));
  if (!is_waiting(label, record)) return std::nullopt;
  return label;
}

// On a disk that is full to the last block it may be missing.
void leave_note(const OpenShelf& open, const std::string& unfinished) {
  Json note = new_document("kestrum-goes-on");
  note["shelf"] = open.shelf.label().shelf;
  note["says"] = "what lies here is part of a set that goes on on another disk";
  try {
    write_small(*open.place, unfinished + "/" + kGoesOnFile, note.dump(2) + "\n");
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::kNoRoom) throw;
  }
}

}  // namespace

std::optional<ShelfState> spanning_shelf(const MachineState& machine, const Job& job) {
  for (ShelfState& state : machine.shelves(job.name)) {
    bool spans = job.when_full == WhenFull::kAsk || !state.record.earlier.empty();
    if (spans && !machine.is_copied(state.record)) return std::move(state);
  }
  return std::nullopt;
}

void prepare_next_disk(const ShelfState& state, const std::string& place, const Clock& clock) {
  const ShelfRecord& record = state.record;
  make_shelf_folder(place, record.folder);
  auto disk = open_place(place, record.folder);
  std::string folder = path_below(place, record.folder);
  // One that was made ready before the keys changed is made ready anew.
  std::optional<ShelfLabel> there;
  if (disk->exists(kLabelFile)) there = Shelf::read_label(*disk);
  if (there && !is_waiting(*there, record)) {
    throw Error(ErrorKind::kUsage, "there is a shelf already: " + printable(folder))
        .about_path(folder);
  }
  disk->make_folder(kSetsFolder);
  ShelfLabel label;
  label.shelf = record.shelf;
  label.job = record.job;
  label.host = record.host;
  label.owner = record.machine;
  label.created = clock.now();
  label.simulated = clock.simulated();
  label.recipient = record.keys.recipient;
  label.waits = there ? there->waits : make_uuid();
  write_own_label(*disk, state, label);
}

std::optional<std::string> waiting_disk(const Job& job, const ShelfRecord& record,
                                        const std::optional<std::string>& on_place) {
  for (const std::string& place : job.places) {
    if (on_place && !is_place_called(place, *on_place)) continue;
    try {
      if (!waiting_label(record, place)) continue;
      auto disk = open_place(place, record.folder);
      if (read_signed(*disk, kLabelFile, record.keys.signers)) return place;
    } catch (const Error&) {  // the others are looked at
    }
  }
  return std::nullopt;
}

void leave_full_disk(OpenShelf& open, const std::optional<std::string>& unfinished, Nanos now) {
  ShelfState& state = *open.state;
  if (unfinished) {
    leave_note(open, *unfinished);
    // What lies here is taken at its word from now on.
    open.place->sync_folder(*unfinished);
    open.place->sync_folder(kSetsFolder);
    open.place->sync_folder("");
  }
  keep_documents(open);
  auto room = open.place->room();
  state.update_record([&](ShelfRecord& record) { record.full = {now, room ? room->free : 0}; });
}

void keep_documents(const OpenShelf& open) {
  {
    LocalPlace documents(open.state->fresh_documents());
    copy_documents(*open.place, documents);
    for (const std::string& name : {std::string(kLabelFile), kLabelFile + std::string(".minisig")})
      copy_document(*open.place, documents, name);
    documents.sync_folder("");
  }
  open.state->take_fresh_documents();
}

void is_not_full(ShelfState& state) {
  state.update_record([](ShelfRecord& record) { record.full = {}; });
  state.drop_documents();
}

bool is_going_on(const ShelfRecord& record) {
  try {
    if (record.label_due.empty()) return false;
    auto label = waiting_label(record, record.place);
    return label && label->waits == record.label_due;
  } catch (const Error&) {
    return false;
  }
}

namespace {

// What an attempt brought that was cut off, and is not on the shelf any more.
void remove_others(Place& documents, Place& disk) {
  for (const PlaceEntry& entry : disk.list(kSetsFolder)) {
    std::string folder = std::string(kSetsFolder) + "/" + entry.name;
    if (entry.is_folder && !documents.exists(folder)) disk.remove_folder(folder);
  }
}

void bring_documents(const ShelfState& state, Place& disk) {
  const ShelfKeys& keys = state.record.keys;
  bool there = state.has_documents();
  if (there) {
    LocalPlace documents(state.documents());
    auto label = read_signed(documents, kLabelFile, keys.signers);
    there = label && ShelfLabel::parse(*label, state.documents()).recipient == keys.recipient;
    if (there) {
      remove_others(documents, disk);
      copy_documents(documents, disk);
    }
  }
  // Those that were kept may be older than a change of the passphrase.
  if (there) return put_known_keys(state, disk);
  throw Error(ErrorKind::kFailed,
              "what has to go along to the next disk is not at hand any more, or the keys have "
              "changed since",
              "plug in " + printable(state.record.place) + " once more and run " +
                  state.record.job + " again");
}

}  // namespace

void go_on_at(ShelfState& state, const std::string& place) {
  auto disk = open_place(place, state.record.folder);
  ShelfLabel label = Shelf::read_label(*disk);
  if (!is_waiting(label, state.record)) {
    throw Error(ErrorKind::kPlace, printable(place) + ": no disk of this shelf waits there")
        .about_path(place);
  }
  if (label.waits != state.record.label_due) {
    bring_documents(state, *disk);
    state.update_record([&](ShelfRecord& record) {
      record.earlier.push_back(
          {{record.moves, disk_name(record.place, record.moves, record.earlier_disks()),
            record.newest.number},
           record.place});
      ++record.moves;
      record.place = place;
      record.label_due = *label.waits;
      record.full = {};
      record.verify_round = {};
    });
  }
  label.waits.reset();
  label.moves = state.record.moves;
  label.recipient = state.record.keys.recipient;
  label.earlier = state.record.earlier_disks();
  write_own_label(*disk, state, label);
  state.update_record([](ShelfRecord& record) { record.label_due.clear(); });
  state.drop_documents();
  mark_as_left(state, state.record.earlier.back().place, label,
               path_below(place, state.record.folder), true);
}

bool was_on(const ShelfRecord& record, const std::string& place) {
  return record.place != place &&
         std::any_of(record.earlier.begin(), record.earlier.end(),
                     [&](const FormerDisk& former) { return former.place == place; });
}

void forget_earlier_disk(const MachineState& machine, const Job& job, ShelfState& state,
                         std::uint64_t number) {
  OpenShelf open = find_shelf(machine, job, state.record.place);
  state.update_record([&](ShelfRecord& record) {
    std::erase_if(record.earlier,
                  [&](const FormerDisk& former) { return former.disk.number == number; });
  });
  ShelfLabel label = open.shelf.label();
  label.earlier = state.record.earlier_disks();
  write_own_label(*open.place, state, label);
}

void sign_waiting_disks(const Job& job, const ShelfState& state, const Clock& clock) {
  for (const std::string& place : job.places) {
    if (waiting_label(state.record, place)) prepare_next_disk(state, place, clock);
  }
}

}  // namespace kestrum
