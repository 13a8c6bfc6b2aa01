#include <fmt/format.h>

#include <algorithm>

#include "command.h"
#include "kestrum/access/known_damage.h"
#include "kestrum/access/other_disks.h"
#include "kestrum/access/own_index.h"
#include "kestrum/access/unlock.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/verify.h"
#include "read_observer.h"
#include "table.h"

namespace kestrum::cli {
namespace {

constexpr std::size_t kPathsShown = 10, kPathWidth = 76;

OpenShelf open_for(const Context& context, const ReadOptions& options) {
  MachineState machine = context.machine();
  auto told = [&](OpenShelf open) {
    if (open.taken_over) context.tell(kReadOnly);
    return open;
  };
  if (options.job) return told(find_shelf(machine, *options.job));
  OpenShelf open = open_shelf_at(machine, options.shelf_folder);
  check_protection(open, options.keys.given, options.keys.unprotected_meant);
  return told(std::move(open));
}

std::string when_lost(const Loss& loss) {
  return loss.points == 1 ? loss.first.to_string()
                          : fmt::format("{} to {} ({})", loss.first.to_string(),
                                        loss.last.to_string(), loss.points);
}

// The files that damage hurts, and at which restore points.
void print_losses(const Context& context, const VerifyResult& result, bool exact) {
  if (context.quiet) return;
  Table table("<<");
  std::size_t all = 0;
  auto add = [&](const std::string& when, const std::string& path) {
    if (++all > kPathsShown && !context.verbose) return;
    std::string name = printable(path);
    table.add({when, context.verbose ? name : shortened(name, kPathWidth)});
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
void print_advice(const Context& context, const VerifyResult& result, const OpenShelf& open,
                  bool exact) {
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
    context.say("of a set whose ledgers are both damaged, kestrum restore " + job +
                " --as-of SET gives what lies in its tar");
  }
  if (no_key) {
    context.say("next: put back a newer keys/ folder of the shelf; nothing is wrong with the sets");
    context.say("  that do not open, and kestrum passphrase changes nothing until then");
  }
  if (key && !no_key && open.state) {
    context.say("next: kestrum passphrase " + job + " writes the copies of the key anew");
  }
  for (const ShelfSet& set : open.shelf.sets()) {
    if (!open.state || !knows_unreadable(open.state->record.damage, set)) continue;
    context.say(fmt::format("noted: chain {} stays until the seal of {} is put back from a copy,",
                            set.id.chain, set.id.to_string()));
    context.say("  or until you delete the chain's folders; other chains are pruned as usual");
  }
  if (!exact && content) {
    context.say("next: kestrum verify " + job + " --contents reads which are really hurt");
  }
  bool mended =
      !open.state || std::all_of(open.state->record.damage.begin(), open.state->record.damage.end(),
                                 [](const KnownDamage& d) { return !!d.mended_by; });
  ledger &= open.state && why_none_can_follow(open);
  if ((ledger || content) && !mended) {
    context.say(fmt::format("next: kestrum run {} {}", job,
                            ledger ? "makes a full set, since nothing can follow that ledger"
                                   : "stores anew what is hurt and still on the PC"));
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
                              : "next: kestrum verify " + job +
                                    " --contents once nothing else is at work reads it anew");
}

}  // namespace

int verify_sets(const Context& context, const Args& args) {
  const std::string usage = "kestrum verify NAME [--contents]";
  args.expect(args.has("shelf") ? 0 : 1, 1, usage);
  VerifyRequest request;
  request.contents = args.has("contents");
  request.by_folder = args.has("shelf");
  request.stop = stop_requested;
  ReadOptions options = read_options(context, args, usage, request.contents);
  OpenShelf open = open_for(context, options);
  std::vector<Identity> identities;
  if (request.contents && open.shelf.label().recipient) {
    if (!options.keys.key_file.empty()) {
      identities =
          unlock_shelf_with_key_file(open, options.keys.key_file, options.keys.signer).identities;
    } else {
      auto passphrase = options.keys.passphrase();
      if (!passphrase) {
        throw Error(ErrorKind::kPassphrase, "--contents needs the passphrase",
                    "give it by --passphrase-file FILE or KESTRUM_PASSPHRASE");
      }
      identities = unlock_shelf(open, *passphrase).identities;
    }
  }
  forget_environment_passphrase();
  request.set_back = why_set_back(context.machine(), open);  // heads are checked by now
  if (auto as_of = args.get("as-of")) {
    auto moment = parse_moment(*as_of, context.clock.now());
    if (!moment) throw Error(ErrorKind::kUsage, "--as-of: not a time: " + printable(*as_of));
    request.only = choose_set(open.shelf.facts(), *moment);
    if (!request.only) throw Error(ErrorKind::kNoMatch, "no restore point at " + printable(*as_of));
  }
  ReadObserver observer(context);
  VerifyResult result = verify_shelf(open, identities, request, observer);
  OwnIndexCheck index;
  if (request.contents && !request.by_folder && !request.only) {
    index = check_own_index(context.machine(), open, identities, observer);
  }
  observer.end();

  const std::string& job = open.shelf.label().job;
  int exit = !result.damage.empty()       ? 4
             : !result.newer.empty()      ? 3
             : !index.differences.empty() ? 1
                                          : 0;
  if (context.json) {
    Json damage = Json::array(), restorable = Json::array();
    for (const Damage& d : result.damage) damage.push_back(damage_json(d));
    Json lost = Json::array();
    for (const auto& [id, files] : result.lost_at) {
      lost.push_back({{"set", id.to_string()}, {"files", files}});
    }
    for (SetId id : result.restorable) restorable.push_back(id.to_string());
    context.print_json({{"job", job},
                        {"checked",
                         {{"sets", result.sets},
                          {"parts", result.parts},
                          {"files", result.files},
                          {"bytes", result.bytes}}},
                        {"damage", damage},
                        {"mended", result.mended},
                        {"newer", result.newer},
                        {"index",
                         {{"differences", index.differences},
                          {"made_anew", index.made_anew},
                          {"not_compared",
                           index.not_compared.empty() ? Json(nullptr) : Json(index.not_compared)}}},
                        {"restorable", restorable},
                        {"lost", lost}});
    return exit;
  }
  std::string checked = fmt::format("{}, {}, {}", counted(result.sets, "set"),
                                    counted(result.parts, "part"), format_size(result.bytes));
  if (request.contents) checked += ", " + counted(result.files, "file");
  for (const std::string& text : result.newer) {
    context.say(printable(text) + ": nothing is wrong with it, and it was not checked");
  }
  if (result.damage.empty()) {
    std::string sound = result.newer.empty() ? "all sound" : "the rest is sound";
    context.say(fmt::format("{}: {} ({})", printable(job), coloured(sound, kGreen), checked));
    if (!request.contents) {
      context.say(
          "  every part, ledger and signature is as it was written; --contents opens them too");
    }
    if (open.shelf.keys().empty()) {
      context.say(
          "  signatures were not checked: only the passphrase or the PC that wrote it can tell");
    }
    print_index_check(context, printable(job), index);
    return exit;
  }
  context.say(fmt::format("{}: {} in {} ({})", printable(job), coloured("damage found", kRed),
                          counted(result.damage.size(), "place"), checked));
  for (const Damage& d : result.damage) {
    context.say(fmt::format("  {} {}: {}", d.set ? d.set->to_string() : "shelf", d.file,
                            printable(d.reason)));
  }
  print_restore_points(context, open.shelf, result, request.contents);
  print_losses(context, result, request.contents);
  print_advice(context, result, open, request.contents);
  print_index_check(context, printable(job), index);
  return exit;
}

}  // namespace kestrum::cli
