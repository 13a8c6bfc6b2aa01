#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>

#include "command.h"
#include "kestrum/access/find_shelf.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"
#include "kestrum/machine/action_log.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/job_lock.h"
#include "kestrum/select/path_order.h"

namespace kestrum::cli {

namespace {

const std::string kUsage = "kestrum trust NAME SET | --gone-for-good PATH --because TEXT";

std::string reason_of(const Args& args) {
  std::string given = args.get("because").value_or("");
  std::string because(trimmed(given));
  if (because.empty()) {
    throw Error(ErrorKind::kUsage, "why is it all right? --because TEXT", kUsage);
  }
  return because;
}

// Whether a restore point knows what lies there on another disk than the one seen there now.
bool is_another_disk(Index& index, const IndexedSet& newest, const std::string& folder) {
  unsigned disk = components_of(folder);
  bool mounted = is_mounted_on(folder);
  auto hides = [&](SetId set) {
    return mounted ? disk > 0 && index.knows_on_disk(folder.substr(1), set, 0, disk - 1)
                   : index.knows_on_disk(folder.substr(1), set, disk, disk);
  };
  if (hides(newest.set)) return true;
  for (const Lacking& lack : newest.lacking.value_or(std::vector<Lacking>{})) {
    if ("/" + lack.path == folder && hides(lack.set)) return true;
  }
  return false;
}

// Whether the newest restore point knows the folder, and it is not there now as it was then.
void check_it_is_away(const OpenShelf& open, const std::string& folder) {
  std::optional<IndexedSet> newest;
  std::optional<IndexEntry> known;
  struct stat st {};
  bool there = look_named(folder, st), another_disk = false;
  if (path_exists(open.state->index_path())) {
    Index index(open.state->index_path());
    newest = index.newest();
    if (newest) known = index.find(newest->set, folder.substr(1));
    if (newest && there) another_disk = is_another_disk(index, *newest, folder);
  }
  auto roots = newest ? root_paths(*newest) : std::vector<std::string>{};
  bool is_root = std::find(roots.begin(), roots.end(), folder) != roots.end();
  bool was_folder = known && known->line.entry.type == EntryType::kFolder;
  if (!is_root && !was_folder) {
    throw Error(ErrorKind::kNoMatch,
                printable(folder) + ": the newest restore point knows no such folder")
        .about_path(folder);
  }
  if ((is_root && !there) || another_disk) return;
  throw Error(ErrorKind::kUsage,
              printable(folder) + (there ? " is there, as it was"
                                         : " is in no need of it: a run sees "
                                           "that it is not there"),
              "what is deleted from a folder that can be read counts as gone by itself")
      .about_path(folder);
}

int trust_gone(const Context& context, const Args& args) {
  args.expect(1, 1, kUsage);
  const std::string& name = args.positional()[0];
  std::string because = reason_of(args), folder = absolute_path(*args.get("gone-for-good"));
  Job job = context.jobs().load(name);
  MachineState machine = context.machine();
  JobLock lock(machine, name, "letting go of a folder");
  OpenShelf open = find_shelf_to_write(machine, job, args.get("on"));
  check_clock(open.shelf.label(), context.clock);
  check_it_is_away(open, folder);
  open.state->update_record([&](ShelfRecord& record) {
    std::erase_if(record.released,
                  [&](const ReleasedFolder& known) { return known.path == folder; });
    record.released.push_back({folder, because});
  });
  note_action(machine, name, "trust", folder + " is gone for good because " + because,
              context.clock.now());
  if (context.json) {
    Json json = {{"job", name}};
    put_name(json, "gone_for_good", folder);
    json["because"] = because;
    context.print_json(json);
    return 0;
  }
  context.say(
      fmt::format("{}: {} will not come back: {}", name, printable(folder), printable(because)));
  context.say(
      "From the next run on what was known there counts as deleted; earlier restore points\n"
      "keep it as long as any deleted file.");
  return 0;
}

}  // namespace

int trust_set(const Context& context, const Args& args) {
  if (args.get("gone-for-good")) return trust_gone(context, args);
  const std::string& usage = kUsage;
  args.expect(2, 2, usage);
  const std::string& name = args.positional()[0];
  auto id = SetId::parse(args.positional()[1]);
  if (!id) {
    throw Error(ErrorKind::kUsage,
                "\"" + printable(args.positional()[1]) + "\" is not a set such as c3-7", usage);
  }
  std::string because = reason_of(args);
  Job job = context.jobs().load(name);
  MachineState machine = context.machine();
  JobLock lock(machine, name, "trusting a set");
  OpenShelf open = find_shelf_to_write(machine, job, args.get("on"));
  check_clock(open.shelf.label(), context.clock);
  const ShelfSet* set = open.shelf.find(*id);
  if (set == nullptr) {
    throw Error(ErrorKind::kNoMatch, "no set " + id->to_string() + " on " + open.path,
                "kestrum sets " + name);
  }
  if (!set->suspect()) {
    const ShelfSet* first = open.shelf.first_suspect();
    throw Error(ErrorKind::kUsage, id->to_string() + " is not suspect",
                first == nullptr ? "" : first->id.to_string() + " is");
  }
  open.shelf.trust(*id, because, context.clock.now(), open.state->signing_key());
  note_action(machine, name, "trust", id->to_string() + " because " + because, context.clock.now());
  const ShelfSet* next = open.shelf.first_suspect();
  open.state->update_record([&](ShelfRecord& record) {
    record.suspect_since = next == nullptr ? std::nullopt : std::optional(next->id);
  });
  if (context.json) {
    context.print_json({{"job", name},
                        {"set", id->to_string()},
                        {"because", because},
                        {"suspect", next == nullptr ? Json(nullptr) : Json(next->id.to_string())}});
    return 0;
  }
  context.say(fmt::format("{}: {} is trusted: {}", name, id->to_string(), printable(because)));
  if (next != nullptr) {
    context.say(fmt::format("{} is suspect still: {}", next->id.to_string(),
                            printable(why_suspect(open, *next))));
  } else {
    context.say("Pruning goes on with the next run.");
  }
  return 0;
}

}  // namespace kestrum::cli
