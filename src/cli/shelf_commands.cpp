#include <fmt/format.h>

#include <algorithm>

#include "command.h"
#include "kestrum/access/copy_shelf.h"
#include "kestrum/access/find_shelf.h"
#include "kestrum/access/open_place.h"
#include "kestrum/access/start_shelf.h"
#include "kestrum/base/file.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
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
  if (auto at = args.get("at")) {
    place = place_named(*at);
    if (std::find(job.places.begin(), job.places.end(), place) == job.places.end()) {
      throw Error(ErrorKind::kUsage, place + " is not one of the places of " + name,
                  "add it to destination.places in " + context.jobs().path(name))
          .about_job(name);
    }
  } else {
    for (const auto& candidate : job.places) {
      if (is_place(candidate) && !seems_shelf(candidate, folder)) {
        place = candidate;
        break;
      }
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

Json list_copies(const Context& context, const Job& job, Table& table) {
  Json list = Json::array();
  std::vector<ShelfState> shelves = context.machine().shelves(job.name);
  for (const std::string& place : job.copies.to) {
    Json item = {
        {"place", printable(place)}, {"sets", nullptr}, {"newest", nullptr}, {"problem", nullptr}};
    try {
      auto copy = copy_at(shelves, place);
      if (!copy) {
        throw Error(ErrorKind::kPlace, is_place(place) ? "no copy there yet" : "not plugged in");
      }
      const ShelfSet* newest = copy->shelf.newest();
      item["sets"] = copy->shelf.sets().size();
      if (newest != nullptr) item["newest"] = format_rfc3339(newest->seal.started);
      table.add({printable(place), counted(copy->shelf.sets().size(), "set"),
                 "a copy, " + (newest != nullptr ? "newest " + newest->id.to_string() + " of " +
                                                       format_local(newest->seal.started)
                                                 : "nothing in it yet")});
    } catch (const Error& error) {
      item["problem"] = printable(error.message());
      table.add({printable(place), "-", "for a copy: " + printable(error.message())});
    }
    list.push_back(item);
  }
  return list;
}

}  // namespace

int shelf_list(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum shelf list NAME");
  const std::string& name = args.positional()[0];
  Job job = context.jobs().load(name);
  Json list = Json::array();
  Table table("p<w");
  for (const auto& place : job.places) {
    Json item = {{"place", place},  {"shelf", nullptr},  {"sets", nullptr},   {"newest", nullptr},
                 {"free", nullptr}, {"signer", nullptr}, {"problem", nullptr}};
    try {
      OpenShelf open = find_shelf_to_write(context.machine(), job, place);
      const ShelfSet* newest = open.shelf.newest();
      auto room = open.place->room();
      item["shelf"] = open.path;
      item["sets"] = open.shelf.sets().size();
      if (newest != nullptr) item["newest"] = format_rfc3339(newest->seal.started);
      if (room) item["free"] = room->free;
      table.add({printable(place), counted(open.shelf.sets().size(), "set"),
                 (newest != nullptr ? "newest " + newest->id.to_string() + " of " +
                                          format_local(newest->seal.started)
                                    : "nothing on it yet") +
                     (room ? ", " + format_size(room->free) + " free" : "")});
      std::string signer = open.state->signing_key().verify_key().fingerprint();
      item["signer"] = signer;
      table.add({"", "", "signed by this PC as " + signer});
    } catch (const Error& error) {
      item["problem"] = printable(error.message());
      table.add({printable(place), "-", printable(error.message())});
    }
    list.push_back(item);
  }
  Json copies = list_copies(context, job, table);
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
