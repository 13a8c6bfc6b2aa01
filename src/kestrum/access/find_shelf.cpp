#include "kestrum/access/find_shelf.h"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>
#include <map>

#include "kestrum/access/open_place.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/place/address.h"
#include "kestrum/place/mounts.h"

namespace kestrum {
namespace {

constexpr std::size_t kShortId = 4;    // letters of a shelf's id that tell two disks apart
constexpr Nanos kSeenAgain = kMinute;  // how exactly it is remembered when a shelf was seen

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
    std::shared_ptr<Place> disk = open_place(place);
    for (const PlaceEntry& host : disk->list("")) {
      if (host.name.starts_with('.') || !host.is_folder) continue;
      for (const PlaceEntry& job : disk->list(host.name)) {
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

Error is_moving(const ShelfRecord& record) {
  std::string to = shell_word(record.moving_to);
  return Error(
             ErrorKind::kPlace,
             fmt::format("the move of {} to {} was cut off", record.job,
                         printable(record.moving_to)),
             fmt::format("to finish it: kestrum shelf copy {} --to {} --move-here", record.job, to))
      .about_path(record.moving_to)
      .may_come();
}

// A place of the job, if one alone is called so; else as it was typed.
std::string place_meant(const Job& job, const std::string& typed) {
  std::vector<std::string> called;
  std::copy_if(job.places.begin(), job.places.end(), std::back_inserter(called),
               [&](const std::string& place) { return is_place_called(place, typed); });
  return called.size() == 1 ? called[0] : place_named(typed);
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
std::optional<OpenShelf> find_on_any_disk(const MachineState& machine, const Job& job,
                                          const ShelfState& state,
                                          const std::vector<MountedDisk>& disks) {
  if (is_remote(state.record.place)) return std::nullopt;
  for (const MountedDisk& disk : disks) {
    if (disk.is_share) continue;
    for (const std::string& place : where_on(disk, state.record.place)) {
      std::optional<ShelfLabel> label = readable_label(place, state.record.folder);
      if (label && label->shelf == state.record.shelf && !label->copy_of && !label->waits &&
          !is_former_home(*label, state.record, place)) {
        OpenShelf open =
            open_known_shelf(machine, place, state.record.folder, std::move(*label), state);
        remember_seen(open, job, place, state.record.folder);
        open.instead_of = state.record.place;
        return open;
      }
    }
  }
  return std::nullopt;
}

// One that the job names comes before one of former times.
std::optional<OpenShelf> find_on_any_disk(const MachineState& machine, const Job& job) {
  std::vector<ShelfState> states = machine.shelves(job.name);
  std::stable_partition(states.begin(), states.end(), [&](const ShelfState& state) {
    return names_place(job, state.record.place);
  });
  if (states.empty()) return std::nullopt;
  std::vector<MountedDisk> disks = mounted_disks();
  for (const ShelfState& state : states) {
    if (auto open = find_on_any_disk(machine, job, state, disks)) return open;
  }
  return std::nullopt;
}

OpenShelf find_at(const MachineState& machine, const Job& job, const std::string& place) {
  std::vector<ShelfState> states = machine.shelves(job.name);
  if (!is_place(place)) throw not_plugged_in(place, states);
  std::vector<std::string> folders = {host_name() + "/" + job.name};
  bool known_here = false;
  for (const ShelfState& state : states) {
    folders.push_back(state.record.folder);
    known_here |= state.record.place == place;
    if (!state.record.moving_to.empty()) throw is_moving(state.record);
  }
  if (names_place(job, place)) {
    for (const ShelfState& state : machine.aside(job.name, Aside::kDropped)) {
      folders.push_back(state.record.folder);
    }
  }
  std::optional<ShelfLabel> stranger, copy, waiting;
  std::optional<ShelfRecord> former;
  for (const auto& relative : folders) {
    auto label = try_label(place, relative);
    if (!label) continue;
    if (label->copy_of) {
      copy = label;
      continue;
    }
    auto state = std::find_if(states.begin(), states.end(),
                              [&](const ShelfState& s) { return s.record.shelf == label->shelf; });
    if (state == states.end()) {
      // The job names its place again.
      if (names_place(job, place) && machine.take_up(label->shelf)) {
        return find_at(machine, job, place);
      }
      stranger = label;
      continue;
    }
    if (label->waits) {
      waiting = label;
      continue;
    }
    if (is_former_home(*label, state->record, place)) {
      former = state->record;
      continue;
    }
    OpenShelf open =
        open_known_shelf(machine, place, relative, std::move(*label), std::move(*state));
    remember_seen(open, job, place, relative);
    return open;
  }
  if (copy) {
    throw Error(ErrorKind::kPlace,
                fmt::format("{} holds a copy of {} of {}, and not the shelf itself", place,
                            printable(copy->job), printable(copy->host)),
                "to read it: add --shelf " + shell_word(place + "/" + copy->host + "/" + copy->job))
        .about_path(place)
        .may_come();
  }
  if (waiting) {
    throw Error(ErrorKind::kPlace,
                fmt::format("{} waits for its turn: {} goes on there once the disk before it is "
                            "full",
                            printable(place), job.name),
                "it holds nothing yet")
        .about_path(place)
        .may_come();
  }
  if (former && !former->earlier.empty()) {
    throw Error(ErrorKind::kPlace,
                fmt::format("{} is a disk that {} has filled; it has gone on to {}",
                            printable(place), job.name, printable(former->place)),
                "plug that one in; nothing is written here any more")
        .about_path(place)
        .may_come();
  }
  if (former) {
    throw Error(ErrorKind::kPlace,
                fmt::format("the shelf of {} has moved from {} to {}", job.name, printable(place),
                            printable(former->place)),
                "nothing is written here any more; to read it: add --shelf " +
                    shell_word(place + "/" + former->folder))
        .about_path(place)
        .may_come();
  }
  if (stranger) {
    throw another_disk(place, *stranger, "this PC does not know that shelf; nothing was written");
  }
  if (known_here) {
    if (auto label = any_label(place)) {
      throw another_disk(place, *label,
                         "plug in the disk of " + job.name +
                             "; for a new shelf on this one: kestrum shelf start " + job.name);
    }
    throw not_plugged_in(place, states);
  }
  throw Error(ErrorKind::kPlace, "no shelf here yet: kestrum shelf start " + job.name,
              place + " is there, but " + job.name + " has no shelf on it")
      .about_path(place)
      .may_come();
}

// What a disk is called: by the last name of its place, by the whole of it where two have that, and
// with the beginning of its shelf's id where disks take turns at one place.
void name_disks(std::vector<KnownShelf>& shelves) {
  if (shelves.size() < 2) return;
  for (KnownShelf& shelf : shelves) {
    std::string name = base_name(shelf.place);
    std::size_t same_place = 0, same_name = 0;
    for (const KnownShelf& other : shelves) {
      same_place += other.place == shelf.place;
      same_name += base_name(other.place) == name;
    }
    const ShelfState& state = shelf.open ? *shelf.open->state : *shelf.state;
    shelf.disk = same_name == 1    ? name
                 : same_place == 1 ? shelf.place
                                   : name + "#" + state.record.shelf.substr(0, kShortId);
  }
}

bool is_called(const KnownShelf& shelf, const std::string& on) {
  return is_place_called(shelf.place, on) || shelf.disk == on ||
         (shelf.open && shelf.open->path == on);
}

}  // namespace

std::vector<KnownShelf> known_shelves(const MachineState& machine, const Job& job,
                                      const std::optional<std::string>& on) {
  std::vector<ShelfState> states = machine.shelves(job.name);
  std::vector<std::string> places = job.places;
  for (const ShelfState& state : states) {
    if (std::find(places.begin(), places.end(), state.record.place) == places.end()) {
      places.push_back(state.record.place);
    }
  }
  std::vector<KnownShelf> shelves;
  std::map<std::string, Error> errors;  // by place
  std::optional<Error> first_error;
  auto is_known = [&](const std::string& id) {
    return std::any_of(shelves.begin(), shelves.end(), [&](const KnownShelf& shelf) {
      return shelf.open && shelf.open->state->record.shelf == id;
    });
  };
  for (const std::string& place : places) {
    try {
      OpenShelf open = find_at(machine, job, place);
      if (is_known(open.state->record.shelf)) continue;
      shelves.push_back({"", open.state->record.place, std::move(open), {}, {}});
    } catch (Error& error) {
      error.about_job(job.name);
      if (!first_error) first_error = error;
      errors.emplace(place, error);
    }
  }
  std::optional<std::vector<MountedDisk>> disks;
  for (ShelfState& state : states) {
    if (is_known(state.record.shelf)) continue;
    std::string place = state.record.place;
    auto why = errors.find(place);
    std::optional<Error> error;
    if (why != errors.end()) error = why->second;
    if (!disks) disks = mounted_disks();
    try {
      if (auto open = find_on_any_disk(machine, job, state, *disks)) {
        shelves.push_back({"", place, std::move(*open), {}, {}});
        continue;
      }
    } catch (const Error& found) {
      error = found;
      error->about_job(job.name);
    }
    if (!error) error = not_plugged_in(place, states).about_job(job.name);
    shelves.push_back({"", place, {}, std::move(state), std::move(error)});
  }
  if (shelves.empty()) throw first_error.value();
  name_disks(shelves);
  if (!on) return shelves;
  std::vector<KnownShelf> chosen;
  for (KnownShelf& shelf : shelves) {
    if (is_called(shelf, *on)) chosen.push_back(std::move(shelf));
  }
  // Of disks that take turns at a place, the one that is there.
  auto is_open = [](const KnownShelf& shelf) { return shelf.open.has_value(); };
  if (std::count_if(chosen.begin(), chosen.end(), is_open) == 1) {
    std::erase_if(chosen, [&](const KnownShelf& shelf) { return !is_open(shelf); });
  }
  if (chosen.size() == 1) return chosen;
  std::string names;
  for (const KnownShelf& shelf : chosen.empty() ? shelves : chosen) {
    names += (names.empty() ? "" : ", ") + printable(chosen.empty() ? shelf.place : shelf.disk);
  }
  if (chosen.size() > 1) {
    throw Error(ErrorKind::kUsage,
                "--on " + printable(*on) + ": " + job.name + " has several of that name",
                "say which: " + names)
        .about_job(job.name);
  }
  check_on_place(job, *on);
  auto why = errors.find(place_named(*on));
  if (why != errors.end()) throw why->second;
  throw Error(ErrorKind::kPlace, printable(*on) + ": " + job.name + " has no shelf there",
              "its shelves are on " + names)
      .about_job(job.name);
}

KnownShelf shelf_in_folder(const MachineState& machine, const std::string& folder) {
  OpenShelf open = open_shelf_at(machine, folder);
  std::string path = open.path;
  return {"", path, std::move(open), {}, {}};
}

OpenShelf find_shelf(const MachineState& machine, const Job& job,
                     const std::optional<std::string>& on_place) {
  std::vector<std::string> places = job.places;
  if (on_place) places = {place_meant(job, *on_place)};
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
  std::string place = place_meant(job, on_place);
  if (names_place(job, place) || is_place(place)) return;
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
  if (!open.read_only.empty() && machine.is_copied(open.state->record)) {
    throw Error(
        ErrorKind::kPlace,
        printable(open.path) + ": this PC was made from a copy of the one that writes there",
        "to go on with it here, and end it there: kestrum shelf claim " + shell_word(open.path) +
            "; for sets of its own: another host name, then kestrum shelf start " + job.name)
        .about_job(job.name)
        .about_path(open.path);
  }
  if (!open.read_only.empty()) {
    throw Error(ErrorKind::kPlace, printable(open.path) + ": " + kTakenOver,
                "it can be read here; a new one for this PC: kestrum shelf start " + job.name)
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

}  // namespace kestrum
