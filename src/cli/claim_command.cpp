#include <fmt/format.h>

#include "command.h"
#include "kestrum/access/claim.h"
#include "kestrum/base/file.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/action_log.h"
#include "kestrum/place/address.h"
#include "mapping.h"
#include "read_observer.h"
#include "table.h"

namespace kestrum::cli {

int shelf_claim(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum shelf claim FOLDER [--as NAME] [--look-only] [--map OLD=NEW]");
  ClaimOptions options;
  options.shelf = place_named(args.positional()[0]);
  options.name = args.get("as");
  options.look_only = args.has("look-only");
  for (const auto& mapping : args.list("map")) options.map.push_back(parse_mapping(mapping));
  options.passphrase = [&] { return find_passphrase(args, base_name(options.shelf), "", true); };
  options.again = ask_again(args, base_name(options.shelf), "");
  options.passphrase_given = passphrase_given(args);
  options.unprotected_meant = args.has("unprotected");
  ReadObserver observer(context);
  ClaimedShelf claimed = claim_shelf(context.home, options, context.clock, observer);
  observer.end();
  int exit = claimed.damaged ? 4 : 0;
  if (!options.look_only) {
    note_action(context.machine(), claimed.job, "claim",
                claimed.shelf + " of " + claimed.old_host + ", " + counted(claimed.sets, "set"),
                context.clock.now());
  }
  if (context.json) {
    Json problems = Json::array(), missing = Json::array();
    for (const auto& problem : claimed.problems) problems.push_back(printable(problem));
    for (const auto& folder : claimed.missing) missing.push_back(printable(folder));
    context.print_json(
        {{"job", claimed.job},
         {"shelf", claimed.shelf},
         {"host", printable(claimed.old_host)},
         {"sets", claimed.sets},
         {"files", claimed.files},
         {"newest", claimed.newest == 0 ? Json(nullptr) : Json(format_rfc3339(claimed.newest))},
         {"missing", missing},
         {"commands",
          {{"before_run", printable(claimed.before)}, {"after_run", printable(claimed.after)}}},
         {"problems", problems},
         {"claimed", !options.look_only}});
    return exit;
  }
  context.say(fmt::format("{} of {}: {}, {} at the newest{}", printable(claimed.old_job),
                          printable(claimed.old_host), counted(claimed.sets, "set"),
                          counted(claimed.files, "file"),
                          claimed.newest == 0 ? "" : ", " + format_local(claimed.newest)));
  Table table("<w");
  for (std::size_t i = 0; i < claimed.folders.size(); ++i) {
    table.add({i == 0 ? "copies" : "", printable(claimed.folders[i])});
  }
  for (const auto& folder : claimed.missing) table.add({"not here", printable(folder)});
  if (!claimed.before.empty()) table.add({"before_run", printable(claimed.before) + "  (off)"});
  if (!claimed.after.empty()) table.add({"after_run", printable(claimed.after) + "  (off)"});
  fmt::print("{}", table.text());
  for (const auto& problem : claimed.problems) context.say("problem: " + printable(problem));
  context.say();
  if (options.look_only) {
    context.say("nothing was changed");
    context.say("next: kestrum shelf claim " + shell_word(claimed.shelf) +
                ", or kestrum restore --shelf " + shell_word(claimed.shelf) + " PATH --to DIR");
    return exit;
  }
  context.say(claimed.job + " is this PC's now; the other one is told so at its next run");
  bool commands = !claimed.before.empty() || !claimed.after.empty();
  context.say("Its schedule is paused until: kestrum job resume " + claimed.job);
  if (commands) context.say("Its commands are off: kestrum job edit " + claimed.job);
  if (!claimed.missing.empty()) {
    context.say("What is not here yet can be restored: kestrum restore " + claimed.job +
                " --in-place --everything");
  }
  context.say("next: kestrum forecast " + claimed.job);
  return exit;
}

}  // namespace kestrum::cli
