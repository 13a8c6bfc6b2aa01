#include "kestrum/access/open_shelf.h"

#include <fcntl.h>
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <utility>

#include "kestrum/base/below.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/place/local_place.h"
#include "kestrum/place/mounts.h"
#include "kestrum/place/open_place.h"

namespace kestrum {
namespace {

constexpr Nanos kSeenAgain = kMinute;  // how exactly it is remembered when a shelf was seen

// Whether there seems to be a shelf in a folder below a place; what cannot be looked at is for
// whoever opens it to tell.
bool seems_shelf(const std::string& place, const std::string& folder) {
  Fd root = open_named(place, O_PATH | O_DIRECTORY);
  return root && below::exists(root.get(), folder + (folder.empty() ? "" : "/") + kLabelFile);
}

std::optional<ShelfLabel> try_label(const std::string& place, const std::string& folder) {
  if (!seems_shelf(place, folder)) return std::nullopt;
  return Shelf::read_label(*open_place(place, folder));
}

// On a disk that may be anybody's.
std::optional<ShelfLabel> readable_label(const std::string& place, const std::string& folder) {
  try {
    return try_label(place, folder);
  } catch (const Error&) {
    return std::nullopt;
  }
}

// Some shelf that lies at a place, by its label.
std::optional<ShelfLabel> any_label(const std::string& place) {
  try {
    LocalPlace disk(place);
    for (const PlaceEntry& host : disk.list("")) {
      if (host.name.starts_with('.') || !host.is_folder) continue;
      for (const PlaceEntry& job : disk.list(host.name)) {
        if (auto label = try_label(place, host.name + "/" + job.name)) return label;
      }
    }
  } catch (const Error&) {
    return std::nullopt;
  }
  return std::nullopt;
}

Error not_plugged_in(const std::string& place, const std::vector<ShelfState>& states) {
  Nanos last_seen = 0;
  for (const ShelfState& state : states) {
    if (state.record.place == place) last_seen = std::max(last_seen, state.record.last_seen);
  }
  std::string seen =
      last_seen == 0 ? "never seen yet" : "last seen " + format_ago(last_seen, calendar_now());
  return Error(ErrorKind::kPlace, fmt::format("not plugged in: {} ({})", base_name(place), seen),
               "plug it in; it is expected at " + place)
      .about_path(place)
      .may_come();
}

Error another_disk(const std::string& place, const ShelfLabel& label, const std::string& hint) {
  return Error(ErrorKind::kPlace,
               fmt::format("another disk: {} holds {} of {}", place, printable(label.job),
                           printable(label.host)),
               hint)
      .about_path(place)
      .may_come();
}

Error unsigned_label(const std::string& folder) {
  return Error(ErrorKind::kDamage, folder + "/shelf.json: it is not signed by this PC",
               "somebody changed shelf.json; nothing was written")
      .about_path(folder);
}

OpenShelf open_known(const MachineState& machine, const std::string& on,
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
  OpenShelf open{place, Shelf(place, std::move(label), state.record.keys.signers), std::move(state),
                 folder};
  const ShelfLabel& found = open.shelf.label();
  // Its key may be another one by now, but it does not lose its protection.
  open.taken_over = found.owner != machine.machine_id();
  const std::optional<Recipient>& known = open.state->record.keys.recipient;
  bool right =
      open.taken_over ? found.recipient.has_value() == known.has_value() : found.recipient == known;
  if (!right) {
    throw Error(ErrorKind::kDamage,
                folder + ": its encryption key is not the one that this PC knows for it",
                "somebody changed shelf.json; nothing was written")
        .about_path(folder);
  }
  if (!open.taken_over && !open.shelf.label_signed()) throw unsigned_label(folder);
  return open;
}

bool names_place(const Job& job, const std::string& place) {
  return std::find(job.places.begin(), job.places.end(), place) != job.places.end();
}

// A place that the job does not name is one for this time only.
void remember_seen(OpenShelf& open, const Job& job, const std::string& place,
                   const std::string& folder) {
  const ShelfRecord& record = open.state->record;
  bool keeps = !names_place(job, place) && names_place(job, record.place);
  std::string known_place = keeps ? record.place : place;
  bool news = record.place != known_place || record.folder != folder ||
              std::abs(calendar_now() - record.last_seen) > kSeenAgain;
  if (!news) return;
  open.state->update_record([&](ShelfRecord& known) {
    known.place = known_place;
    known.folder = folder;
    known.last_seen = calendar_now();
  });
}

// The shelf by its label on the disks that are mounted now, wherever that is: a disk that could not
// be mounted at its old folder gets another one. A share that does not answer would hold up
// everybody.
std::optional<OpenShelf> find_on_any_disk(const MachineState& machine, const Job& job) {
  std::vector<ShelfState> states = machine.shelves(job.name);
  // One that the job names rather than one of former times.
  std::stable_partition(states.begin(), states.end(), [&](const ShelfState& state) {
    return names_place(job, state.record.place);
  });
  std::vector<MountedDisk> disks = states.empty() ? std::vector<MountedDisk>{} : mounted_disks();
  for (const ShelfState& state : states) {
    for (const MountedDisk& disk : disks) {
      if (disk.is_share) continue;
      // The place may have been any folder of the disk: its path's tails are tried.
      std::string tail;
      for (std::string rest = state.record.place;; rest = parent_of(rest)) {
        std::string place = tail.empty() ? disk.folder : disk.folder + "/" + tail;
        std::optional<ShelfLabel> label = readable_label(place, state.record.folder);
        if (label && label->shelf == state.record.shelf) {
          OpenShelf open =
              open_known(machine, place, state.record.folder, std::move(*label), state);
          remember_seen(open, job, place, state.record.folder);
          open.instead_of = state.record.place;
          return open;
        }
        if (rest.size() <= 1) break;
        tail = tail.empty() ? base_name(rest) : base_name(rest) + "/" + tail;
      }
    }
  }
  return std::nullopt;
}

OpenShelf find_at(const MachineState& machine, const Job& job, const std::string& place) {
  std::vector<ShelfState> states = machine.shelves(job.name);
  if (!is_named_folder(place)) throw not_plugged_in(place, states);
  std::vector<std::string> folders = {host_name() + "/" + job.name};
  bool known_here = false;
  for (const ShelfState& state : states) {
    folders.push_back(state.record.folder);
    known_here |= state.record.place == place;
  }
  std::optional<ShelfLabel> stranger;
  for (const auto& relative : folders) {
    auto label = try_label(place, relative);
    if (!label) continue;
    auto state = std::find_if(states.begin(), states.end(),
                              [&](const ShelfState& s) { return s.record.shelf == label->shelf; });
    if (state == states.end()) {
      stranger = label;
      continue;
    }
    OpenShelf open = open_known(machine, place, relative, std::move(*label), std::move(*state));
    remember_seen(open, job, place, relative);
    return open;
  }
  if (stranger) {
    throw another_disk(place, *stranger, "this PC does not know that shelf; nothing was written");
  }
  if (known_here) {
    if (auto label = any_label(place)) {
      throw another_disk(place, *label,
                         "plug in the disk of " + job.name + ", or kestrum shelf start " +
                             job.name + " on this one");
    }
    throw not_plugged_in(place, states);
  }
  throw Error(ErrorKind::kPlace, "no shelf here yet: kestrum shelf start " + job.name,
              place + " is there, but " + job.name + " has no shelf on it")
      .about_path(place)
      .may_come();
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

OpenShelf find_shelf(const MachineState& machine, const Job& job,
                     const std::optional<std::string>& on_place) {
  std::vector<std::string> places = job.places;
  if (on_place) places = {absolute_path(*on_place)};
  std::optional<OpenShelf> best;
  std::optional<Error> first_error;
  for (const auto& place : places) {
    try {
      OpenShelf open = find_at(machine, job, place);
      auto age_of = [](const OpenShelf& o) {
        return o.shelf.newest() != nullptr ? o.shelf.newest()->seal.started : 0;
      };
      if (!best || age_of(open) < age_of(*best)) best.emplace(std::move(open));
    } catch (Error& error) {
      error.about_job(job.name);
      if (error.kind() != ErrorKind::kPlace) throw;
      if (!first_error) first_error = error;
    }
  }
  if (best) return std::move(*best);
  if (!on_place) {
    if (auto elsewhere = find_on_any_disk(machine, job)) return std::move(*elsewhere);
  }
  throw *first_error;
}

void check_on_place(const Job& job, const std::string& on_place) {
  std::string place = absolute_path(on_place);
  if (names_place(job, place) || is_named_folder(place)) return;
  std::string places;
  for (const std::string& named : job.places) places += (places.empty() ? "" : ", ") + named;
  throw Error(ErrorKind::kUsage, printable(place) + " is no place of " + job.name,
              "its places: " + printable(places))
      .about_job(job.name);
}

OpenShelf find_shelf_to_write(const MachineState& machine, const Job& job,
                              const std::optional<std::string>& on_place) {
  if (on_place) check_on_place(job, *on_place);
  OpenShelf open = find_shelf(machine, job, on_place);
  if (open.taken_over) {
    throw Error(
        ErrorKind::kPlace, printable(open.path) + ": " + kTakenOver,
        "it can be read here; kestrum shelf start " + job.name + " makes a new one for this PC")
        .about_job(job.name)
        .about_path(open.path);
  }
  if (names_place(job, open.state->record.place)) return open;
  throw Error(
      ErrorKind::kPlace,
      printable(open.path) + ": " + job.name + " does not name this disk any more",
      "nothing was written; plug in the disk that it names, or name this one again: kestrum "
      "job edit " +
          job.name)
      .about_job(job.name)
      .about_path(open.path)
      .may_come();
}

OpenShelf open_shelf_at(const MachineState& machine, const std::string& folder_option) {
  std::string folder = absolute_path(folder_option);
  if (!is_named_folder(folder)) {
    throw Error(ErrorKind::kPlace, "not there: " + printable(folder)).about_path(folder);
  }
  if (!seems_shelf(folder, "")) {
    throw Error(ErrorKind::kPlace, "no shelf in " + printable(folder),
                "a shelf is the folder <place>/<host>/<job> with shelf.json in it")
        .about_path(folder);
  }
  auto place = open_place(folder);
  ShelfLabel label = Shelf::read_label(*place);
  for (ShelfState& state : machine.shelves()) {
    if (state.record.shelf != label.shelf) continue;
    OpenShelf open{place, Shelf(place, std::move(label), state.record.keys.signers),
                   std::move(state), folder};
    open.taken_over = open.shelf.label().owner != machine.machine_id();
    if (!open.taken_over && !open.shelf.label_signed()) throw unsigned_label(folder);
    return open;
  }
  return {place, Shelf(place, std::move(label), {}), std::nullopt, folder};
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
  if (error.kind() != ErrorKind::kPlace || is_there(open)) return error;
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
  summary.free_bytes = open.place->room().free;
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
