#include "kestrum/access/open_shelf.h"

#include <fcntl.h>
#include <fmt/format.h>

#include <utility>

#include "kestrum/access/open_place.h"
#include "kestrum/base/below.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/place/address.h"

namespace kestrum {

std::optional<std::string> OpenShelf::away_disk(const Seal& seal, const PartInfo& part) const {
  const EarlierDisk* disk = earlier ? shelf.lies_on(seal, part) : nullptr;
  if (disk == nullptr || earlier->find(disk->number)) return std::nullopt;
  return disk->name;
}

std::optional<std::string> OpenShelf::away_disk(const Seal& seal) const {
  const EarlierDisk* before = nullptr;
  for (const PartInfo& part : seal.parts) {
    const EarlierDisk* disk = earlier ? shelf.lies_on(seal, part) : nullptr;
    if (disk == nullptr || disk == before) continue;
    if (!earlier->find(disk->number)) return disk->name;
    before = disk;
  }
  return std::nullopt;
}

bool seems_shelf(const std::string& place, const std::string& folder) {
  if (is_remote(place)) {
    return open_place(place)->exists(folder + (folder.empty() ? "" : "/") + kLabelFile);
  }
  Fd root = open_named(place, O_PATH | O_DIRECTORY);
  return root && below::exists(root.get(), folder + (folder.empty() ? "" : "/") + kLabelFile);
}

bool is_former_home(const ShelfLabel& label, const ShelfRecord& record, const std::string& place) {
  if (label.copy_of || label.waits) return false;
  bool moves_from_here =
      !record.moving_to.empty() && label.moves <= record.moves && record.moving_to != place;
  return label.moved_to || label.moves < record.moves || moves_from_here;
}

namespace {

// What `place`, on which a shelf is now, is together with the disks that it was on.
std::shared_ptr<Place> with_earlier(const std::shared_ptr<Place>& place, const ShelfLabel& label,
                                    const std::string& on, const ShelfRecord* record,
                                    std::shared_ptr<EarlierDisks>& earlier) {
  if (label.earlier.empty()) return place;
  std::vector<std::string> likely;
  if (record != nullptr) {
    for (const FormerDisk& former : record->earlier) likely.push_back(former.place);
  }
  earlier = std::make_shared<EarlierDisks>(label, on, place, std::move(likely));
  return std::make_shared<SpannedPlace>(earlier);
}

// The place of a shelf whose folder below it is `folder`, by the shelf's own path.
std::string place_above(const std::string& path, const std::string& folder) {
  return path.ends_with("/" + folder) ? path.substr(0, path.size() - folder.size() - 1) : path;
}

Error unsigned_label(const std::string& folder) {
  return Error(ErrorKind::kDamage, folder + "/shelf.json: it is not signed by this PC",
               "somebody changed shelf.json; nothing was written")
      .about_path(folder);
}

// Why this machine only reads a shelf; empty if it may write.
std::string why_read_only(const MachineState& machine, const ShelfLabel& label,
                          const ShelfRecord& record, const std::string& place) {
  if (label.owner != machine.machine_id()) {
    return std::string(kTakenOver) + "; it is read, and not written to";
  }
  if (label.waits) return "this disk waits until the one before it is full: it holds nothing yet";
  if (!is_former_home(label, record, place)) return "";
  return "this shelf has moved to " +
         printable(record.moving_to.empty() ? record.place : record.moving_to) +
         "; what is here is read, and not written to";
}

// By the disk itself: the system may still know the names that were on it, and their content.
bool is_there(const OpenShelf& open) {
  if (!seems_shelf(open.path, "")) return false;
  try {
    Bytes start(1);
    open.place->open(kLabelFile, true)->read_at(0, start);
    return true;
  } catch (const Error&) {
    return false;
  }
}

}  // namespace

void write_own_label(Place& place, const ShelfState& state, const ShelfLabel& label) {
  write_signed(place, kLabelFile, label.to_json(), state.signing_key(),
               "label of shelf " + label.shelf);
  place.sync_folder("");
}

OpenShelf open_known_shelf(const MachineState& machine, const std::string& on,
                           const std::string& relative, ShelfLabel label, ShelfState state) {
  auto place = open_place(on, relative);
  std::string folder = path_below(on, relative);
  if (finish_signed(*place, kLabelFile, state.record.keys.signers))
    label = Shelf::read_label(*place);
  if (state.record.keys.next_recipient && label.recipient == state.record.keys.next_recipient) {
    state.update_record([](ShelfRecord& record) {
      record.keys.recipient = std::exchange(record.keys.next_recipient, std::nullopt);
      record.full_because = "the shelf has a new key";
    });
  }
  std::shared_ptr<EarlierDisks> earlier;
  place = with_earlier(place, label, on, &state.record, earlier);
  OpenShelf open{place, Shelf(place, std::move(label), state.record.keys.signers), std::move(state),
                 folder};
  open.earlier = std::move(earlier);
  const ShelfLabel& found = open.shelf.label();
  // Its key may be another one by now, but it does not lose its protection.
  open.read_only = why_read_only(machine, found, open.state->record, on);
  const std::optional<Recipient>& known = open.state->record.keys.recipient;
  bool right = !open.read_only.empty() ? found.recipient.has_value() == known.has_value()
                                       : found.recipient == known;
  if (!right) {
    throw Error(ErrorKind::kDamage,
                folder + ": its encryption key is not the one that this PC knows for it",
                "somebody changed shelf.json; nothing was written")
        .about_path(folder);
  }
  if (open.read_only.empty() && !open.shelf.label_signed()) throw unsigned_label(folder);
  return open;
}

std::vector<std::string> shelves_below(const std::string& folder, std::size_t most) {
  constexpr std::size_t kDeepest = 3;
  std::vector<std::string> shelves, level = {""};
  std::shared_ptr<Place> place = open_place(folder);
  std::size_t looked = 0;
  for (std::size_t depth = 0; depth < kDeepest; ++depth) {
    std::vector<std::string> next;
    for (const std::string& above : level) {
      try {
        for (const PlaceEntry& entry : place->list(above)) {
          if (!entry.is_folder || ++looked > most) continue;
          std::string path = (above.empty() ? "" : above + "/") + entry.name;
          if (place->exists(path + "/" + kLabelFile)) {
            shelves.push_back(path_below(folder, path));
          } else {
            next.push_back(std::move(path));
          }
        }
      } catch (const Error&) {  // not to be read: what can be is told
      }
    }
    level = std::move(next);
  }
  return shelves;
}

OpenShelf open_shelf_at(const MachineState& machine, const std::string& folder_option) {
  std::string folder = place_named(folder_option);
  if (!is_place(folder)) {
    throw Error(ErrorKind::kPlace, "not there: " + printable(folder)).about_path(folder);
  }
  if (!seems_shelf(folder, "")) {
    std::string hint = "a shelf is the folder <place>/<host>/<job> with shelf.json in it";
    if (auto below = shelves_below(folder); !below.empty()) {
      constexpr std::size_t kNamed = 5;
      hint = below.size() == 1 ? "there is one below it: " : "there are some below it: ";
      for (std::size_t i = 0; i < std::min(kNamed, below.size()); ++i) {
        hint += (i == 0 ? "" : ", ") + printable(below[i]);
      }
      if (below.size() > kNamed) hint += fmt::format(" and {} more", below.size() - kNamed);
    }
    throw Error(ErrorKind::kPlace, "no shelf in " + printable(folder), hint).about_path(folder);
  }
  auto place = open_place(folder);
  ShelfLabel label = Shelf::read_label(*place);
  std::string on = place_above(folder, label.host + "/" + label.job);
  std::shared_ptr<EarlierDisks> earlier;
  for (ShelfState& state : machine.shelves()) {
    if (state.record.shelf != label.shelf) continue;
    place = with_earlier(place, label, on, &state.record, earlier);
    OpenShelf open{place, Shelf(place, std::move(label), state.record.keys.signers),
                   std::move(state), folder};
    open.earlier = std::move(earlier);
    const ShelfRecord& record = open.state->record;
    open.read_only =
        why_read_only(machine, open.shelf.label(), record, place_above(folder, record.folder));
    if (open.read_only.empty() && !open.shelf.label_signed()) throw unsigned_label(folder);
    return open;
  }
  place = with_earlier(place, label, on, nullptr, earlier);
  OpenShelf open{place, Shelf(place, std::move(label), {}), std::nullopt, folder};
  open.earlier = std::move(earlier);
  return open;
}

void check_protection(const OpenShelf& open, bool secret_given, bool unprotected_meant) {
  // What this PC remembers of a shelf counts more than what somebody happens to have given.
  bool expected = open.state ? open.state->record.keys.recipient.has_value() : secret_given;
  if (open.shelf.label().recipient || unprotected_meant || !expected) return;
  throw Error(
      ErrorKind::kPassphrase,
      printable(open.path) + (open.state ? ": this PC knows it as protected, and it is not any more"
                                         : ": it is not protected, though a secret was given"),
      "somebody may have put another shelf in its place; --unprotected if it is meant")
      .about_path(open.path);
}

Error named_if_lost(const OpenShelf& open, const Error& error) {
  // What a server that went away leads to says so itself.
  if (error.kind() != ErrorKind::kPlace || is_remote(open.path) || is_there(open)) return error;
  std::string place = open.state ? open.state->record.place : open.path;
  return Error(ErrorKind::kPlace, base_name(place) + " was pulled out or went away meanwhile",
               "it was " + place + "; plug it in or connect it again")
      .about_path(place)
      .may_come();
}

ShelfSummary summary_of(const OpenShelf& open) {
  ShelfSummary summary;
  summary.path = open.path;
  for (const ShelfSet& set : open.shelf.sets()) {
    if (!set.sealed()) continue;
    ++summary.restore_points;
    summary.stored_bytes += set.seal.totals.stored;
    if (summary.oldest == 0) summary.oldest = set.seal.started;
    summary.newest = set.seal.started;
  }
  if (auto room = open.place->room()) summary.free_bytes = room->free;
  return summary;
}

void check_clock(const ShelfLabel& label, const Clock& clock) {
  if (label.simulated && !clock.simulated()) {
    throw Error(ErrorKind::kUsage, "this shelf was made under a simulated clock",
                "set KESTRUM_NOW to write to it");
  }
  if (!label.simulated && clock.simulated()) {
    throw Error(ErrorKind::kUsage, "KESTRUM_NOW is set, and this shelf is a real one",
                "unset KESTRUM_NOW to write to it");
  }
}

}  // namespace kestrum
