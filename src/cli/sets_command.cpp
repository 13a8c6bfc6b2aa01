#include <fmt/format.h>

#include <map>

#include "command.h"
#include "kestrum/access/find_shelf.h"
#include "kestrum/access/known_damage.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/backup/continuation.h"
#include "kestrum/base/file.h"
#include "kestrum/base/named_file.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/report/calendar_figure.h"
#include "table.h"

namespace kestrum::cli {
namespace {

std::string damage_of(const OpenShelf& open, SetId set) {
  if (!open.state) return "";
  for (const KnownDamage& damage : open.state->record.damage) {
    if (damage.set == set) return damage.file;
  }
  return "";
}

std::string state_of(const ShelfSet& set, bool sound, const std::string& damage) {
  if (!sound) return "its base is damaged";
  if (!damage.empty()) return coloured("DAMAGED", kRed);
  std::string text = set.seal.verified == "no"      ? "not verified"
                     : set.seal.verified == "sizes" ? "sizes verified"
                                                    : "verified";
  if (set.suspect()) return coloured("SUSPECT", kRed) + ", " + text;
  return set.trusted.empty() ? text : text + ", trusted: " + printable(set.trusted);
}

void tell_damage(const Context& context, const OpenShelf& open) {
  context.say();
  for (const ShelfSet& set : open.shelf.sets()) {
    if (!set.sealed()) context.say(set.id.to_string() + " " + printable(set.problem));
  }
  if (!open.state) return;
  for (const KnownDamage& damage : open.state->record.damage) {
    if (open.shelf.find(damage.set) == nullptr) continue;
    context.say(printable(in_words(damage)) +
                (damage.mended_by ? "; made good by " + damage.mended_by->to_string() : ""));
  }
}

Json unsealed_json(const ShelfSet& set) {
  Json json = {{"set", set.id.to_string()}, {"problem", set.problem}, {"newer", set.newer}};
  for (const char* key : {"kind", "based_on", "taken", "files", "bytes_copied", "bytes_stored",
                          "parts", "verified", "suspect"}) {
    json[key] = nullptr;
  }
  return json;
}

Json sealed_json(const OpenShelf& open, const ShelfSet& set, const std::string& damage) {
  const Seal& seal = set.seal;
  return {{"set", set.id.to_string()},
          {"kind", kind_name(seal.kind)},
          {"based_on", seal.based_on ? Json(seal.based_on->to_string()) : Json(nullptr)},
          {"taken", format_rfc3339(seal.started)},
          {"files", seal.totals.files},
          {"bytes_copied", seal.totals.copied},
          {"bytes_stored", seal.totals.stored},
          {"parts", seal.parts.size()},
          {"verified", seal.verified},
          {"damaged", damage.empty() ? Json(nullptr) : Json(damage)},
          {"suspect", set.suspect()},
          {"suspect_why", set.suspect() ? Json(why_suspect(open, set)) : Json(nullptr)},
          {"trusted", set.trusted.empty() ? Json(nullptr) : Json(set.trusted)}};
}

// What stands before a set: an incremental hangs on the one before it, differentials branch off the
// full set.
std::string mark_of(const std::vector<const ShelfSet*>& chain, std::size_t at) {
  const ShelfSet& set = *chain[at];
  if (at == 0) return "";
  bool follows = set.sealed() && set.seal.based_on == chain[at - 1]->id &&
                 set.seal.kind == SetKind::kIncremental;
  if (follows) return "│  ";
  return at + 1 == chain.size() ? "└─ " : "├─ ";
}

std::string chain_heading(std::uint32_t chain, const std::vector<const ShelfSet*>& sets,
                          bool complete) {
  Nanos oldest = 0;
  for (const ShelfSet* set : sets) {
    if (set->sealed() && (oldest == 0 || set->seal.started < oldest)) oldest = set->seal.started;
  }
  std::string text = fmt::format("chain {}, {}", chain, counted(sets.size(), "restore point"));
  if (oldest != 0) text += " back to " + format_day(oldest);
  return complete ? text : text + ", not complete";
}

std::vector<std::string> sealed_row(const ShelfSet& set, const std::string& mark,
                                    const std::string& state) {
  const Seal& seal = set.seal;
  return {mark + set.id.to_string(),
          kind_name(seal.kind),
          format_local(seal.started),
          format_count(seal.totals.files),
          format_size(seal.totals.copied),
          format_size(seal.totals.stored),
          state};
}

// What one shelf has, told line by line or put into `chains`.
struct Listing {
  const Context& context;
  Json chains = Json::array();
  std::uint64_t unfinished = 0;
  bool damaged = false;

  void list(const OpenShelf& open, const std::string& disk);
  void remembered(const KnownShelf& shelf, const std::string& job);
};

void Listing::list(const OpenShelf& open, const std::string& disk) {
  const Shelf& shelf = open.shelf;
  if (!open.read_only.empty()) {
    context.tell((disk.empty() ? "" : disk + ": ") + open.read_only);
  }
  std::map<std::uint32_t, std::vector<const ShelfSet*>> by_chain;
  std::uint64_t stored = 0;
  for (const ShelfSet& set : shelf.sets()) {
    by_chain[set.id.chain].push_back(&set);
    if (set.sealed()) stored += set.seal.totals.stored;
  }
  std::map<SetId, bool> restorable;
  for (const SetFacts& fact : shelf.facts()) restorable[fact.id] = fact.restorable;

  std::uint64_t begun_bytes = unfinished_bytes(shelf, shelf.leftovers());
  unfinished += begun_bytes;
  bool hurt = false, newer = false;
  Table table("<<<>>>w");
  table.add({"set", "kind", "taken", "files", "copied", "stored", ""});
  for (const auto& [number, sets] : by_chain) {
    Json items = Json::array();
    bool complete = true;
    std::size_t title = table.add({});
    for (std::size_t i = 0; i < sets.size(); ++i) {
      const ShelfSet& set = *sets[i];
      std::string mark = mark_of(sets, i);
      bool sound = set.sealed() && restorable[set.id];
      std::string damage = damage_of(open, set.id);
      complete &= sound && damage.empty();
      hurt |= (!set.sealed() && !set.newer) || !damage.empty();
      newer |= set.newer;
      items.push_back(set.sealed() ? sealed_json(open, set, damage) : unsealed_json(set));
      table.add(set.sealed() ? sealed_row(set, mark, state_of(set, sound, damage))
                             : std::vector<std::string>{mark + set.id.to_string(),
                                                        set.newer ? "newer" : "damaged"});
    }
    chains.push_back(
        {{"chain", number}, {"disk", disk_json(disk)}, {"complete", complete}, {"sets", items}});
    table.make_heading(title, chain_heading(number, sets, complete));
  }
  damaged |= hurt;
  if (context.json) return;
  std::string begun;
  if (begun_bytes > 0) {
    bool kept = open.state && path_exists(open.state->index_path());
    if (kept) {
      Index index(open.state->index_path());
      kept = may_be_continued(open, index);
    }
    begun = format_size(begun_bytes) + " of a set that is not finished: the next run " +
            (kept ? "goes on with it, if the same kind of set is due" : "removes it");
  }
  auto room = open.place->room();
  context.say(fmt::format("{}: {} in {}, {} on the shelf{}", job_on_disk(shelf.label().job, disk),
                          counted(shelf.sets().size(), "set"), counted(by_chain.size(), "chain"),
                          format_size(stored),
                          room ? ", " + format_size(room->free) + " free on the disk" : ""));
  context.data("", printable(open.path));
  if (by_chain.empty()) {
    if (!begun.empty()) context.say(begun);
    context.say("next: kestrum run " + printable(shelf.label().job));
    return;
  }
  fmt::print("\n{}", table.text());
  if (!begun.empty()) context.say("\n" + begun);
  if (hurt || newer) tell_damage(context, open);
  if (hurt) context.say("next: kestrum verify " + printable(shelf.label().job));
  if (const ShelfSet* first = shelf.first_suspect()) {
    context.say(fmt::format("\n{} is suspect: {}", first->id.to_string(),
                            printable(why_suspect(open, *first))));
    context.say("Nothing is pruned until: kestrum trust " + printable(shelf.label().job) + " " +
                first->id.to_string() + " --because TEXT" +
                (disk.empty() ? "" : shell_option("on", open.state->record.place)));
  }
}

// A disk that is away: what this PC knows of it.
void Listing::remembered(const KnownShelf& shelf, const std::string& job) {
  const Error& why = shelf.why_not.value();
  std::vector<IndexedSet> sets;
  if (path_exists(shelf.state->index_path())) sets = Index(shelf.state->index_path()).sets();
  Table table("<<<<<");
  table.add({"set", "kind", "based on", "taken", ""});
  std::map<std::uint32_t, Json> items;
  for (const IndexedSet& set : sets) {
    std::string based_on = set.based_on ? set.based_on->to_string() : "";
    Json item = unsealed_json({});
    item["set"] = set.set.to_string();
    item["kind"] = kind_name(set.kind);
    item["based_on"] = set.based_on ? Json(based_on) : Json(nullptr);
    item["taken"] = format_rfc3339(set.started);
    item["problem"] = why.message();
    items.try_emplace(set.set.chain, Json::array()).first->second.push_back(std::move(item));
    table.add({set.set.to_string(), kind_name(set.kind), based_on, format_local(set.started),
               set.suspect_why.empty() ? "" : coloured("SUSPECT", kRed)});
  }
  for (auto& [number, list] : items) {
    chains.push_back({{"chain", number},
                      {"disk", disk_json(shelf.disk)},
                      {"complete", nullptr},
                      {"sets", std::move(list)}});
  }
  if (context.json) return;
  context.say(fmt::format("{}: {}; {}", job_on_disk(job, shelf.disk), printable(why.message()),
                          sets.empty() ? "nothing is known of what it holds"
                                       : "this PC remembers " + counted(sets.size(), "set")));
  if (!sets.empty()) fmt::print("\n{}", table.text());
}

int write_calendar(const Context& context, const OpenShelf& open, const std::string& file) {
  const std::string& job = open.shelf.label().job;
  std::string title = fmt::format("{}: restore points on {}", job, open.path);
  write_named_file(
      file, calendar_svg(title, shelf_calendar(context.machine(), open, job, context.clock.now())),
      0644);
  if (context.json) context.print_json({{"job", job}, {"shelf", open.path}, {"calendar", file}});
  context.say("wrote " + printable(file));
  return 0;
}

std::vector<KnownShelf> shelves_to_list(const Context& context, const Args& args) {
  MachineState machine = context.machine();
  std::vector<KnownShelf> shelves;
  if (args.has("shelf")) {
    chosen_disk(args);
    shelves.push_back(shelf_in_folder(machine, *args.get("shelf")));
    return shelves;
  }
  shelves = known_shelves(machine, context.jobs().load(args.positional()[0]), chosen_disk(args));
  // Somebody who asks for the one disk of a job, and it is away, is told that.
  if (shelves.size() == 1 && !shelves[0].open) throw *shelves[0].why_not;
  return shelves;
}

}  // namespace

int list_sets(const Context& context, const Args& args) {
  const std::string usage = "kestrum sets NAME [--on PLACE]";
  args.expect(args.has("shelf") ? 0 : 1, 1, usage);
  std::vector<KnownShelf> shelves = shelves_to_list(context, args);
  const OpenShelf* there = nullptr;
  for (const KnownShelf& shelf : shelves) {
    if (!shelf.open) continue;
    bool second = there != nullptr;
    if (second && args.has("calendar")) {
      throw Error(ErrorKind::kUsage, "a calendar is of one disk: add --on PLACE", usage);
    }
    if (!second) there = &*shelf.open;
  }
  std::string job = args.has("shelf") ? there->shelf.label().job : args.positional()[0];
  if (auto file = args.get("calendar")) {
    if (there == nullptr) throw shelves[0].why_not.value();
    return write_calendar(context, *there, *file);
  }
  Listing listing{context};
  Json disks = Json::array();
  for (const KnownShelf& shelf : shelves) {
    if (&shelf != &shelves.front()) context.say();
    if (shelf.open) {
      listing.list(*shelf.open, shelf.disk);
    } else {
      listing.remembered(shelf, job);
    }
    disks.push_back({{"disk", disk_json(shelf.disk)},
                     {"shelf", shelf.open ? Json(shelf.open->path) : Json(nullptr)},
                     {"problem", shelf.open ? Json(nullptr) : Json(shelf.why_not->message())}});
  }
  if (context.json) {
    context.print_json({{"job", job},
                        {"shelf", there != nullptr ? Json(there->path) : Json(nullptr)},
                        {"disks", disks},
                        {"chains", listing.chains},
                        {"unfinished_bytes", listing.unfinished}});
  }
  return listing.damaged ? 4 : 0;
}

}  // namespace kestrum::cli
