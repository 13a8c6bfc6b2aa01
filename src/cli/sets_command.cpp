#include <fmt/format.h>

#include <map>

#include "command.h"
#include "kestrum/access/known_damage.h"
#include "kestrum/access/open_shelf.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/backup/continuation.h"
#include "kestrum/base/file.h"
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
  std::string text = set.seal.verified == "no" ? "not verified" : "verified";
  if (set.suspect()) return coloured("SUSPECT", kRed) + ", " + text;
  return set.trusted.empty() ? text : text + ", trusted: " + shortened(printable(set.trusted), 30);
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

std::vector<std::string> sealed_row(const ShelfSet& set, const std::string& branch,
                                    const std::string& state) {
  const Seal& seal = set.seal;
  return {branch + set.id.to_string(),
          kind_name(seal.kind),
          seal.based_on ? seal.based_on->to_string() : "",
          format_local(seal.started),
          format_count(seal.totals.files),
          format_size(seal.totals.copied),
          format_size(seal.totals.stored),
          state};
}

}  // namespace

int list_sets(const Context& context, const Args& args) {
  const std::string usage = "kestrum sets NAME";
  args.expect(args.has("shelf") ? 0 : 1, 1, usage);
  MachineState machine = context.machine();
  OpenShelf open = args.has("shelf")
                       ? open_shelf_at(machine, *args.get("shelf"))
                       : find_shelf(machine, context.jobs().load(args.positional()[0]));
  const Shelf& shelf = open.shelf;
  if (open.taken_over) context.tell(kReadOnly);
  if (auto file = args.get("calendar")) {
    std::string title = fmt::format("{}: restore points on {}", shelf.label().job, open.path);
    write_file(*file, calendar_svg(title, shelf_calendar(machine, open, shelf.label().job,
                                                         context.clock.now())));
    if (context.json) {
      context.print_json({{"job", shelf.label().job}, {"shelf", open.path}, {"calendar", *file}});
    }
    context.say("wrote " + printable(*file));
    return 0;
  }
  std::map<std::uint32_t, std::vector<const ShelfSet*>> chains;
  std::uint64_t stored = 0;
  for (const ShelfSet& set : shelf.sets()) {
    chains[set.id.chain].push_back(&set);
    if (set.sealed()) stored += set.seal.totals.stored;
  }
  std::map<SetId, bool> restorable;
  for (const SetFacts& fact : shelf.facts()) restorable[fact.id] = fact.restorable;

  std::uint64_t unfinished = unfinished_bytes(shelf);
  Json list = Json::array();
  bool damaged = false, newer = false;
  Table table("<<<<>>><");
  table.add({"set", "kind", "based on", "taken", "files", "copied", "stored", ""});
  for (const auto& [number, sets] : chains) {
    Json items = Json::array();
    bool complete = true;
    std::size_t title = table.add({});
    for (std::size_t i = 0; i < sets.size(); ++i) {
      const ShelfSet& set = *sets[i];
      std::string branch = i == 0 ? "" : i + 1 == sets.size() ? "└─ " : "├─ ";
      bool sound = set.sealed() && restorable[set.id];
      std::string damage = damage_of(open, set.id);
      complete &= sound && damage.empty();
      damaged |= (!set.sealed() && !set.newer) || !damage.empty();
      newer |= set.newer;
      items.push_back(set.sealed() ? sealed_json(open, set, damage) : unsealed_json(set));
      table.add(set.sealed() ? sealed_row(set, branch, state_of(set, sound, damage))
                             : std::vector<std::string>{branch + set.id.to_string(),
                                                        set.newer ? "newer" : "damaged", "", "", "",
                                                        "", "", ""});
    }
    list.push_back({{"chain", number}, {"complete", complete}, {"sets", items}});
    table.replace(title, {fmt::format("chain {}", number), complete ? "" : "not complete"});
  }
  if (context.json) {
    context.print_json({{"job", shelf.label().job},
                        {"shelf", open.path},
                        {"chains", list},
                        {"unfinished_bytes", unfinished}});
    return damaged ? 4 : 0;
  }
  std::string begun;
  if (unfinished > 0) {
    bool kept = open.state && path_exists(open.state->index_path());
    if (kept) {
      Index index(open.state->index_path());
      kept = may_be_continued(open, index);
    }
    begun = format_size(unfinished) + " of a set that is not finished: the next run " +
            (kept ? "goes on with it, if the same kind of set is due" : "removes it");
  }
  Room room = open.place->room();
  context.say(fmt::format("{}: {} in {}, {} on the shelf, {} free on the disk",
                          printable(shelf.label().job), counted(shelf.sets().size(), "set"),
                          counted(chains.size(), "chain"), format_size(stored),
                          format_size(room.free)));
  context.say(printable(open.path));
  if (chains.empty()) {
    if (!begun.empty()) context.say(begun);
    context.say("next: kestrum run " + printable(shelf.label().job));
    return 0;
  }
  fmt::print("\n{}", table.text());
  if (!begun.empty()) context.say("\n" + begun);
  if (damaged || newer) tell_damage(context, open);
  if (damaged) context.say("next: kestrum verify " + printable(shelf.label().job));
  if (const ShelfSet* first = shelf.first_suspect()) {
    context.say(fmt::format("\n{} is suspect: {}", first->id.to_string(),
                            printable(why_suspect(open, *first))));
    context.say("Nothing is pruned until: kestrum trust " + printable(shelf.label().job) + " " +
                first->id.to_string() + " --because TEXT");
  }
  return damaged ? 4 : 0;
}

}  // namespace kestrum::cli
