#include <fmt/format.h>

#include "command.h"
#include "kestrum/base/text.h"
#include "kestrum/engine/verify.h"
#include "read_observer.h"
#include "table.h"

namespace kestrum::cli {
namespace {

constexpr std::size_t kPathsShown = 20;

OpenShelf open_for(const Context& context, const ReadOptions& options) {
  MachineState machine = context.machine();
  return options.job ? find_shelf(machine, *options.job)
                     : open_shelf_at(machine, options.shelf_folder);
}

}  // namespace

int verify_sets(const Context& context, const Args& args) {
  const std::string usage = "kestrum verify NAME [--contents]";
  args.expect(args.has("shelf") ? 0 : 1, 1, usage);
  VerifyRequest request;
  request.contents = args.has("contents");
  request.stop = stop_requested;
  ReadOptions options = read_options(context, args, usage, request.contents);
  OpenShelf open = open_for(context, options);
  std::vector<Identity> identities;
  if (request.contents && open.shelf.label().recipient) {
    if (!options.keys.key_file.empty()) {
      identities = unlock_shelf_with_key_file(open, options.keys.key_file).identities;
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
  if (auto as_of = args.get("as-of")) {
    auto moment = parse_moment(*as_of, context.clock.now());
    if (!moment) throw Error(ErrorKind::kUsage, "--as-of: not a time: " + printable(*as_of));
    request.only = choose_set(open.shelf.facts(), *moment);
    if (!request.only) throw Error(ErrorKind::kNoMatch, "no restore point at " + printable(*as_of));
  }
  ReadObserver observer(context);
  VerifyResult result = verify_shelf(open, identities, request, observer);
  observer.end();

  const std::string& job = open.shelf.label().job;
  int exit = result.damage.empty() ? 0 : 4;
  if (context.json) {
    Json damage = Json::array(), restorable = Json::array();
    for (const Damage& d : result.damage) {
      Json paths = Json::array();
      for (const auto& path : d.paths) {
        paths.push_back(is_utf8(path) ? Json(path) : Json(printable(path)));
      }
      damage.push_back({{"set", d.set ? Json(d.set->to_string()) : Json(nullptr)},
                        {"file", d.file},
                        {"reason", printable(d.reason)},
                        {"paths", paths}});
    }
    for (SetId id : result.restorable) restorable.push_back(id.to_string());
    context.print_json({{"job", job},
                        {"checked",
                         {{"sets", result.sets},
                          {"parts", result.parts},
                          {"files", result.files},
                          {"bytes", result.bytes}}},
                        {"damage", damage},
                        {"restorable", restorable}});
    return exit;
  }
  std::string checked = fmt::format("{}, {}, {}", counted(result.sets, "set"),
                                    counted(result.parts, "part"), format_size(result.bytes));
  if (request.contents) checked += ", " + counted(result.files, "file");
  if (result.damage.empty()) {
    context.say(fmt::format("{}: {} ({})", printable(job), coloured("all sound", kGreen), checked));
    if (!request.contents) {
      context.say(
          "  every part, ledger and signature is as it was written; --contents opens them too");
    }
    if (open.shelf.keys().empty()) {
      context.say(
          "  signatures were not checked: only the passphrase or the PC that wrote it can tell");
    }
    return exit;
  }
  context.say(fmt::format("{}: {} in {} ({})", printable(job), coloured("damage found", kRed),
                          counted(result.damage.size(), "place"), checked));
  for (const Damage& d : result.damage) {
    context.say(fmt::format("  {} {}: {}", d.set ? d.set->to_string() : "shelf", d.file,
                            printable(d.reason)));
    for (std::size_t i = 0; i < d.paths.size() && (i < kPathsShown || context.verbose); ++i) {
      context.say("      hurt: " + printable(d.paths[i]));
    }
    if (d.paths.size() > kPathsShown && !context.verbose) {
      context.say(
          fmt::format("      and {} more; --verbose names them all", d.paths.size() - kPathsShown));
    }
  }
  std::string whole;
  for (SetId id : result.restorable) whole += " " + id.to_string();
  context.say("whole restore points:" + (whole.empty() ? " none" : whole));
  if (!request.contents) {
    context.say("next: kestrum verify " + printable(job) +
                " --contents names the files that are hurt");
  }
  return exit;
}

}  // namespace kestrum::cli
