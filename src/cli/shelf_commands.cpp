#include <fmt/format.h>

#include <algorithm>

#include "command.h"
#include "kestrum/access/copy_shelf.h"
#include "kestrum/access/find_shelf.h"
#include "kestrum/access/next_disk.h"
#include "kestrum/access/open_place.h"
#include "kestrum/access/start_shelf.h"
#include "kestrum/base/file.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/copies_seen.h"
#include "kestrum/place/address.h"
#include "servers.h"
#include "table.h"

namespace kestrum::cli {

int shelf_start(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum shelf start NAME [--at PLACE]");
  const std::string& name = args.positional()[0];
  Job job = context.jobs().load(name);
  MachineState machine = context.machine();
  ask_about_host_keys(context);
  std::string place, folder = host_name() + "/" + name;
  auto spanning = spanning_shelf(machine, job);
  if (auto at = args.get("at")) {
    place = place_named(*at);
    if (std::find(job.places.begin(), job.places.end(), place) == job.places.end()) {
      throw Error(ErrorKind::kUsage, place + " is not one of the places of " + name,
                  "add it to destination.places in " + context.jobs().path(name))
          .about_job(name);
    }
  } else {
    for (const auto& candidate : job.places) {
      if (!is_place(candidate) || seems_shelf(candidate, folder)) continue;
      // Where a disk was that is full there may be another one by now, but rather a new place.
      bool was_there =
          spanning && (was_on(spanning->record, candidate) || spanning->record.place == candidate);
      if (place.empty() || !was_there) place = candidate;
      if (!was_there) break;
    }
    if (place.empty()) {
      for (const auto& candidate : job.places) {
        if (is_place(candidate)) place = candidate;
      }
    }
    if (place.empty()) place = job.places[0];
  }
  StartOptions options;
  options.place = place;
  options.same_disk = args.has("same-disk");
  check_place(job, place, options.same_disk);
  if (seems_shelf(place, folder)) {
    throw Error(ErrorKind::kUsage, "there is a shelf already: " + place + "/" + folder,
                "kestrum shelf list " + name)
        .about_job(name);
  }
  if (spanning && job.when_full == WhenFull::kAsk) {
    const ShelfRecord& record = spanning->record;
    prepare_next_disk(*spanning, place, context.clock);
    std::string path = path_below(place, record.folder);
    if (context.json) {
      context.print_json({{"job", name}, {"shelf", path}, {"id", record.shelf}, {"waits", true}});
      return 0;
    }
    context.say(fmt::format("{} is ready: {} goes on there once {} is full", printable(path), name,
                            printable(record.place)));
    return 0;
  }
  if (job.encrypted) options.passphrase = new_passphrase(args, name);
  std::string text = read_file(context.jobs().path(name));
  OpenShelf open = start_shelf(machine, job, text, options, context.clock);
  if (context.json) {
    context.print_json({{"job", name}, {"shelf", open.path}, {"id", open.shelf.label().shelf}});
    return 0;
  }
  context.say(fmt::format("{} has a shelf now: {}", name, printable(open.path)));
  context.say("next: kestrum run " + name);
  return 0;
}

namespace {

// What the copy at a place has; nothing if there is none of these shelves.
std::optional<OpenShelf> copy_at(const std::vector<ShelfState>& shelves, const std::string& place) {
  for (const ShelfState& state : shelves) {
    if (auto copy = find_copy(state, place)) return copy;
  }
  return std::nullopt;
}

// Sets of the copy's shelf that the copy does not have.
void add_to_come(const std::vector<OpenShelf>& shelves, const OpenShelf& copy, Json& item,
                 std::string& text) {
  for (const OpenShelf& open : shelves) {
    if (open.shelf.label().shelf != copy.shelf.label().shelf) continue;
    std::uint64_t sets = 0, bytes = 0;
    for (const ShelfSet& set : open.shelf.sets()) {
      if (!set.sealed() || copy.shelf.find(set.id) != nullptr) continue;
      ++sets;
      bytes += set.seal.totals.stored;
    }
    item["to_come"] = {{"sets", sets}, {"bytes", bytes}};
    text += sets == 0 ? ", nothing to come"
                      : fmt::format(", {} ({}) to come", counted(sets, "set"), format_size(bytes));
  }
}

Json list_copies(const Context& context, const Job& job, const std::vector<OpenShelf>& shelves,
                 Table& table) {
  Json list = Json::array();
  std::vector<ShelfState> states = context.machine().shelves(job.name);
  for (const CopySeen& seen : copies_seen(job, states)) {
    Json item = {{"place", printable(seen.place)},
                 {"sets", nullptr},
                 {"newest", nullptr},
                 {"to_come", nullptr},
                 {"problem", nullptr},
                 {"made", nullptr}};
    if (seen.when != 0) item["made"] = format_rfc3339(seen.when);
    try {
      auto copy = copy_at(states, seen.place);
      if (!copy) {
        throw Error(ErrorKind::kPlace,
                    is_place(seen.place) ? "no copy there yet" : "not plugged in");
      }
      const ShelfSet* newest = copy->shelf.newest();
      item["sets"] = copy->shelf.sets().size();
      std::string text = "a copy, nothing in it yet";
      if (newest != nullptr) {
        item["newest"] = format_rfc3339(newest->seal.started);
        text = fmt::format("a copy, newest {} of {}", newest->id.to_string(),
                           format_local(newest->seal.started));
      }
      add_to_come(shelves, *copy, item, text);
      table.add({printable(seen.place), counted(copy->shelf.sets().size(), "set"), text});
    } catch (const Error& error) {
      item["problem"] = printable(error.message());
      std::string text = "for a copy: " + printable(error.message());
      if (seen.when != 0) text += "; " + seen.in_words(calendar_now());
      table.add({printable(seen.place), "-", text});
    }
    list.push_back(item);
  }
  return list;
}

// What a shelf that is there holds.
void list_open(const OpenShelf& open, bool is_next, Json& item, Table& table,
               const std::string& place) {
  const Shelf& shelf = open.shelf;
  const ShelfSet* newest = shelf.newest();
  ShelfSummary summary = summary_of(open);
  item["shelf"] = open.path;
  item["sets"] = shelf.sets().size();
  item["bytes"] = summary.stored_bytes;
  item["next"] = is_next;
  if (newest != nullptr) {
    item["newest"] = format_rfc3339(summary.newest);
    item["oldest"] = format_rfc3339(summary.oldest);
  }
  if (summary.free_bytes) item["free"] = *summary.free_bytes;
  std::string text = newest == nullptr ? "nothing on it yet"
                                       : "newest " + newest->id.to_string() + " of " +
                                             format_local(summary.newest);
  if (summary.free_bytes) text += ", " + format_size(*summary.free_bytes) + " free";
  table.add({place, counted(shelf.sets().size(), "set"), text});
  std::string more;
  if (newest != nullptr) {
    more = fmt::format("back to {}, {} stored", format_local(summary.oldest),
                       format_size(summary.stored_bytes));
  }
  if (is_next) more += (more.empty() ? "" : "; ") + std::string("the next run writes here");
  if (!more.empty()) table.add({"", "", more});
  std::string signer = open.state->signing_key().verify_key().fingerprint();
  item["signer"] = signer;
  table.add({"", "", "signed by this PC as " + signer});
}

// What this PC remembers of one that is away.
std::string remembered(const ShelfRecord& record, const Job& job) {
  std::string text;
  if (record.newest.set) text = "newest " + record.newest.set->to_string();
  Nanos now = calendar_now();
  if (job.rotation > 0 && record.last_seen != 0) {
    Nanos due = record.last_seen + job.rotation;
    text += (text.empty() ? "" : ", ") +
            (due <= now ? "due since " + format_local_day(due) : "due by " + format_local_day(due));
  }
  return text;
}

// A disk that the job's shelf has filled, or is to go on to. False if it is neither.
bool list_turn(const Job& job, const std::optional<ShelfState>& spanning, const std::string& place,
               Json& item, Table& table) {
  if (!spanning) return false;
  if (was_on(spanning->record, place)) {
    bool there = is_place(place) && seems_shelf(place, spanning->record.folder);
    item["turn"] = "filled";
    table.add({printable(place), "-",
               "filled; " + job.name + " has gone on to " + printable(spanning->record.place) +
                   (there ? "" : "; not plugged in")});
    return true;
  }
  if (!waiting_disk(job, spanning->record, place)) return false;
  item["turn"] = "waits";
  auto room = open_place(place)->room();
  if (room) item["free"] = room->free;
  table.add({printable(place), "-",
             "waits for its turn" + (room ? ", " + format_size(room->free) + " free" : "")});
  return true;
}

}  // namespace

int shelf_list(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum shelf list NAME");
  const std::string& name = args.positional()[0];
  Job job = context.jobs().load(name);
  Json list = Json::array();
  Table table("p<w");
  MachineState machine = context.machine();
  std::vector<OpenShelf> shelves;
  std::optional<ShelfState> spanning = spanning_shelf(machine, job);
  std::string next;  // where a run would write
  try {
    if (job.places.size() > 1) next = find_shelf_to_write(machine, job).path;
  } catch (const Error&) {
    // Told of each place below.
  }
  for (const auto& place : job.places) {
    Json item = {{"place", place},       {"shelf", nullptr},  {"sets", nullptr},
                 {"bytes", nullptr},     {"oldest", nullptr}, {"newest", nullptr},
                 {"free", nullptr},      {"signer", nullptr}, {"next", false},
                 {"last_seen", nullptr}, {"turn", nullptr},   {"problem", nullptr}};
    if (list_turn(job, spanning, place, item, table)) {
      list.push_back(item);
      continue;
    }
    try {
      OpenShelf open = find_shelf_to_write(machine, job, place);
      list_open(open, open.path == next, item, table, printable(place));
      shelves.push_back(std::move(open));
    } catch (const Error& error) {
      item["problem"] = printable(error.message());
      table.add({printable(place), "-", printable(error.message())});
      for (const ShelfState& state : machine.shelves(name)) {
        if (state.record.place != place) continue;
        if (state.record.last_seen != 0) item["last_seen"] = format_rfc3339(state.record.last_seen);
        if (auto text = remembered(state.record, job); !text.empty()) table.add({"", "", text});
      }
    }
    list.push_back(item);
  }
  Json copies = list_copies(context, job, shelves, table);
  if (context.json) {
    context.print_json({{"job", name}, {"shelves", list}, {"copies", copies}});
    return 0;
  }
  std::string text = fmt::format("{} has {}", name, counted(job.places.size(), "place"));
  if (!copies.empty()) text += fmt::format(" and {}", copies.size() == 1 ? "a copy" : "copies");
  context.say(text);
  fmt::print("{}", table.text());
  return 0;
}

}  // namespace kestrum::cli
