#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "command.h"
#include "kestrum/access/find_shelf.h"
#include "kestrum/access/known_damage.h"
#include "kestrum/access/other_disks.h"
#include "kestrum/access/own_index.h"
#include "kestrum/access/unlock.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/verify.h"
#include "read_observer.h"
#include "table.h"
#include "verify_more.h"

namespace kestrum::cli {
namespace {

constexpr std::size_t kPathsShown = 10;

// One disk of the job, and what was found on it.
struct Checked {
  KnownShelf shelf;
  VerifyResult result;
  OwnIndexCheck index;

  OpenShelf& open() { return *shelf.open; }
  const OpenShelf& open() const { return *shelf.open; }
  // "front-desk", "front-desk on blue-disk"
  std::string name() const { return job_on_disk(open().shelf.label().job, shelf.disk); }
  // What chooses this disk, behind a command that is to be pasted.
  std::string on() const { return shelf.disk.empty() ? "" : shell_option("on", shelf.place); }
  int exit() const {
    if (!result.damage.empty()) return 4;
    if (!result.newer.empty()) return 3;
    if (!result.away.empty()) return 1;
    return index.differences.empty() ? 0 : 1;
  }
};

std::vector<KnownShelf> shelves_for(const Context& context, const ReadOptions& options) {
  MachineState machine = context.machine();
  std::vector<KnownShelf> shelves;
  if (options.job) {
    shelves = known_shelves(machine, *options.job, options.on);
    bool any = std::any_of(shelves.begin(), shelves.end(),
                           [](const KnownShelf& shelf) { return shelf.open.has_value(); });
    if (!any) throw shelves.front().why_not.value();
  } else {
    shelves.push_back(shelf_in_folder(machine, options.shelf_folder));
    check_protection(*shelves[0].open, options.keys.given, options.keys.unprotected_meant);
  }
  for (const KnownShelf& shelf : shelves) {
    if (shelf.open && !shelf.open->read_only.empty()) context.tell(shelf.open->read_only);
  }
  return shelves;
}

std::vector<Identity> unlock_for(OpenShelf& open, const ReadOptions& options,
                                 std::optional<Secret>& passphrase) {
  if (!open.shelf.label().recipient) return {};
  if (!options.keys.key_file.empty()) {
    return unlock_shelf_with_key_file(open, options.keys.key_file, options.keys.signer).identities;
  }
  if (!passphrase) passphrase = options.keys.passphrase();
  if (!passphrase) {
    throw Error(ErrorKind::kPassphrase, "--contents needs the passphrase",
                "give it by --passphrase-from FILE or KESTRUM_PASSPHRASE");
  }
  return unlock_with_tries(open, *passphrase, options.keys.again).identities;
}

std::string when_lost(const Loss& loss) {
  return loss.points == 1 ? loss.first.to_string()
                          : fmt::format("{} to {} ({})", loss.first.to_string(),
                                        loss.last.to_string(), loss.points);
}

// The files that damage hurts, and at which restore points.
void print_losses(const Context& context, const VerifyResult& result, bool exact) {
  if (context.quiet) return;
  Table table("<p");
  std::size_t all = 0;
  auto add = [&](const std::string& when, const std::string& path) {
    if (++all > kPathsShown && !context.verbose) return;
    std::string name = printable(path);
    table.add({when, name});
  };
  for (const Damage& d : result.damage) {
    for (const Loss& loss : d.losses) add(when_lost(loss), loss.path);
    if (!d.losses.empty()) continue;
    for (const auto& path : d.paths) add("", path);
  }
  if (all == 0) return;
  context.say(exact ? "files that are lost, and at which restore points:"
                    : "files that lie in what is damaged, and at which restore points:");
  fmt::print("{}", table.text());
  if (all > kPathsShown && !context.verbose) {
    context.say(fmt::format("  and {} more; --verbose names them all", all - kPathsShown));
  }
}

Json damage_json(const Damage& d) {
  Json paths = Json::array(), lost = Json::array();
  for (const auto& path : d.paths) {
    paths.push_back(is_utf8(path) ? Json(path) : Json(printable(path)));
  }
  for (const Loss& loss : d.losses) {
    Json item;
    put_name(item, "path", loss.path);
    item["first"] = loss.first.to_string();
    item["last"] = loss.last.to_string();
    item["restore_points"] = loss.points;
    lost.push_back(item);
  }
  return {{"set", d.set ? Json(d.set->to_string()) : Json(nullptr)},
          {"file", d.file},
          {"reason", printable(d.reason)},
          {"paths", paths},
          {"lost", lost}};
}

// Which restore points are whole, and how much the others lack.
void print_restore_points(const Context& context, const Shelf& shelf, const VerifyResult& result,
                          bool exact) {
  std::string restorable;
  for (SetId id : result.restorable) restorable += " " + id.to_string();
  context.say("whole restore points:" + (restorable.empty() ? " none" : restorable));
  std::size_t shown = 0;
  for (const auto& [id, files] : result.lost_at) {
    if (++shown > kPathsShown && !context.verbose) continue;
    const ShelfSet* set = shelf.find(id);
    context.say(fmt::format("  {} of {} lacks {}{}", id.to_string(),
                            set != nullptr && set->sealed() ? format_local(set->seal.started) : "?",
                            exact ? "" : "up to ", counted(files, "file")));
  }
  if (shown > kPathsShown && !context.verbose) {
    context.say(fmt::format("  and {} more; --verbose names them all", shown - kPathsShown));
  }
}

// What to do about it.
void print_advice(const Context& context, const Checked& checked, bool exact) {
  const VerifyResult& result = checked.result;
  const OpenShelf& open = checked.open();
  std::string job = printable(open.shelf.label().job);
  bool ledger = false, content = false, key = false, no_key = false;
  for (const Damage& d : result.damage) {
    no_key |= d.no_key;
    if (d.no_key || d.mended) continue;
    ledger |= d.file.starts_with("ledger");
    content |= d.file.starts_with("part-");
    key |= d.file.starts_with("keys/");
  }
  if (ledger && result.known_here) {
    context.say("this PC still knows what the damaged ledger listed: restores from here go on");
  } else if (ledger) {
    context.say("what lies in the tar of a set whose ledgers are both damaged:");
    context.say("  kestrum restore " + job + " --point SET" + checked.on() + " --to DIR");
  }
  if (no_key) {
    context.say("next: put back a newer keys/ folder of the shelf; nothing is wrong with the sets");
    context.say("  that do not open, and the passphrase cannot be changed until then");
  }
  if (key && !no_key && open.state) {
    context.say("to write the copies of the key anew: kestrum passphrase " + job);
  }
  for (const ShelfSet& set : open.shelf.sets()) {
    if (!open.state || !knows_unreadable(open.state->record.damage, set)) continue;
    context.say(fmt::format("noted: chain {} stays until the seal of {} is put back from a copy,",
                            set.id.chain, set.id.to_string()));
    context.say("  or until you delete the chain's folders; other chains are pruned as usual");
  }
  if (!exact && content) {
    context.say("which of them are really hurt: kestrum verify " + job + checked.on() +
                " --contents");
  }
  bool mended =
      !open.state || std::all_of(open.state->record.damage.begin(), open.state->record.damage.end(),
                                 [](const KnownDamage& d) { return !!d.mended_by; });
  ledger &= open.state && why_none_can_follow(open);
  if ((ledger || content) && !mended) {
    context.say(fmt::format("{}: kestrum run {}{}",
                            ledger ? "next, a full set, since nothing can follow that ledger"
                                   : "next, to store anew what is hurt and still on the PC",
                            job, checked.on()));
  }
}

// What this PC remembers of the sets, held against the ledgers.
void print_index_check(const Context& context, const std::string& job, const OwnIndexCheck& index) {
  if (!index.not_compared.empty()) {
    context.say("what this PC remembers of the sets was not held against their ledgers: " +
                printable(index.not_compared));
  }
  if (index.differences.empty()) return;
  context.say(coloured("what this PC remembers of the sets is not what their ledgers say:", kRed));
  for (const std::string& text : index.differences) context.say("  " + text);
  context.say(index.made_anew ? "it was read from the ledgers anew; no set is hurt by it"
                              : "to read it anew, once nothing else is at work: kestrum verify " +
                                    job + " --contents");
}

Json combined_json(const std::vector<Checked>& all, const std::string& job) {
  Json damage = Json::array(), restorable = Json::array(), lost = Json::array();
  Json mended = Json::array(), newer = Json::array(), disks = Json::array();
  Json differences = Json::array(), away = Json::array();
  std::string not_compared;
  bool made_anew = false;
  VerifyResult sum;
  for (const Checked& checked : all) {
    Json disk = disk_json(checked.shelf.disk);
    if (!checked.shelf.open) {
      disks.push_back(
          {{"disk", disk}, {"shelf", nullptr}, {"problem", checked.shelf.why_not->message()}});
      continue;
    }
    disks.push_back({{"disk", disk}, {"shelf", checked.open().path}, {"problem", nullptr}});
    const VerifyResult& result = checked.result;
    sum.sets += result.sets;
    sum.parts += result.parts;
    sum.files += result.files;
    sum.bytes += result.bytes;
    auto name = [&](SetId id) {
      return id.to_string() +
             (checked.shelf.disk.empty() ? "" : " on " + printable(checked.shelf.disk));
    };
    for (const Damage& d : result.damage) {
      damage.push_back(damage_json(d));
      damage.back()["disk"] = disk;
    }
    for (const auto& [id, files] : result.lost_at) {
      lost.push_back({{"set", id.to_string()}, {"disk", disk}, {"files", files}});
    }
    for (SetId id : result.restorable) restorable.push_back(name(id));
    for (const auto& [name_of_it, parts] : result.away) {
      away.push_back({{"disk", printable(name_of_it)}, {"parts", parts}});
    }
    for (const std::string& text : result.mended) mended.push_back(text);
    for (const std::string& text : result.newer) newer.push_back(text);
    for (const std::string& text : checked.index.differences) differences.push_back(text);
    made_anew |= checked.index.made_anew;
    if (not_compared.empty()) not_compared = checked.index.not_compared;
  }
  return {{"job", job},
          {"disks", disks},
          {"checked",
           {{"sets", sum.sets}, {"parts", sum.parts}, {"files", sum.files}, {"bytes", sum.bytes}}},
          {"damage", damage},
          {"mended", mended},
          {"newer", newer},
          {"away", away},
          {"index",
           {{"differences", differences},
            {"made_anew", made_anew},
            {"not_compared", not_compared.empty() ? Json(nullptr) : Json(not_compared)}}},
          {"restorable", restorable},
          {"lost", lost}};
}

void print_checked(const Context& context, const Checked& checked, const VerifyRequest& request) {
  const VerifyResult& result = checked.result;
  const OpenShelf& open = checked.open();
  std::string job = printable(open.shelf.label().job);
  std::string sums = fmt::format("{}, {}, {}", counted(result.sets, "set"),
                                 counted(result.parts, "part"), format_size(result.bytes));
  if (request.contents) sums += ", " + counted(result.files, "file");
  for (const std::string& text : result.newer) {
    context.say(printable(text) + ": nothing is wrong with it, and it was not checked");
  }
  for (const auto& [disk, parts] : result.away) {
    context.say(fmt::format("{} on {} {} not checked: it is not plugged in", counted(parts, "part"),
                            printable(disk), parts == 1 ? "was" : "were"));
  }
  if (result.damage.empty()) {
    bool all = result.newer.empty() && result.away.empty();
    std::string sound = all ? "all sound" : "the rest is sound";
    context.say(fmt::format("{}: {} ({})", checked.name(), coloured(sound, kGreen), sums));
    if (!request.contents && all) {
      context.say(
          "  every part, ledger and signature is as it was written; --contents opens them too");
    }
    if (open.shelf.keys().empty()) {
      context.say(
          "  signatures were not checked: only the passphrase or the PC that wrote it can tell");
    }
  } else {
    context.say(fmt::format("{}: {} in {} ({})", checked.name(), coloured("damage found", kRed),
                            counted(result.damage.size(), "place"), sums));
    for (const Damage& d : result.damage) {
      context.say(fmt::format("  {} {}: {}", d.set ? d.set->to_string() : "shelf", d.file,
                              printable(d.reason)));
    }
    print_restore_points(context, open.shelf, result, request.contents);
    print_losses(context, result, request.contents);
    print_advice(context, checked, request.contents);
  }
  print_index_check(context, job, checked.index);
}

constexpr const char* kVerifyUsage = "kestrum verify NAME [--contents] [--on PLACE]";

JobAnswer verify_job(const Context& context, const Args& args) {
  VerifyRequest request;
  request.contents = args.has("contents");
  request.by_folder = args.has("shelf");
  request.stop = stop_requested;
  std::optional<Moment> moment;
  if (auto moment_text = args.get("point")) {
    moment = parse_moment(*moment_text, context.clock.now());
    if (!moment) {
      throw Error(ErrorKind::kUsage, "--point: not a time: \"" + printable(*moment_text) + "\"",
                  kMomentsInWords);
    }
  }
  ReadOptions options = read_options(context, args, kVerifyUsage, request.contents);
  std::vector<Checked> all;
  for (KnownShelf& shelf : shelves_for(context, options)) {
    all.push_back({std::move(shelf), {}, {}});
  }
  std::map<const Checked*, std::vector<Identity>> identities;
  std::optional<Secret> passphrase;
  for (Checked& checked : all) {
    if (request.contents && checked.shelf.open) {
      identities[&checked] = unlock_for(checked.open(), options, passphrase);
    }
  }

  int exit = 0;
  bool any = false;
  std::string job = options.job ? options.job->name : all.front().open().shelf.label().job;
  ReadObserver observer(context);
  for (Checked& checked : all) {
    if (!checked.shelf.open) {
      const Error& why = checked.shelf.why_not.value();
      if (why.kind() != ErrorKind::kPlace) exit = worse_exit(exit, why.exit_code());
      continue;
    }
    OpenShelf& open = checked.open();
    VerifyRequest here = request;
    here.set_back = why_set_back(context.machine(), open);  // heads are checked by now
    if (moment) here.only = choose_set(open.shelf.facts(), *moment);
    if (moment && !here.only) continue;
    any = true;
    checked.result = verify_shelf(open, identities[&checked], here, observer);
    if (request.contents && !request.by_folder && !here.only) {
      checked.index = check_own_index(context.machine(), open, identities[&checked], observer);
    }
    observer.end();
    exit = worse_exit(exit, checked.exit());
    if (!context.json) print_checked(context, checked, request);
  }
  if (!any) {
    throw Error(ErrorKind::kNoMatch, "no restore point at " + printable(*args.get("point")));
  }
  if (context.json) return {exit, combined_json(all, job)};
  for (const Checked& checked : all) {
    if (checked.shelf.open) continue;
    context.say(fmt::format("{}: {}; nothing of it was checked", printable(job),
                            printable(checked.shelf.why_not->message())));
  }
  return {exit, {}};
}

}  // namespace

int verify_sets(const Context& context, const Args& args) {
  return for_each_job(context, args, kVerifyUsage, [&](const Args& one) {
    if (args.has("against-source")) return verify_against_source(context, one);
    return args.has("sample") ? verify_sample(context, one) : verify_job(context, one);
  });
}

}  // namespace kestrum::cli
