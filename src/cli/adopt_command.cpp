#include <fmt/format.h>

#include "command.h"
#include "kestrum/access/adopt.h"
#include "kestrum/base/file.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "mapping.h"
#include "read_observer.h"
#include "table.h"

namespace kestrum::cli {

int adopt(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum adopt SHELF [--as NAME] [--look-only] [--map OLD=NEW]");
  AdoptOptions options;
  options.shelf = absolute_path(args.positional()[0]);
  options.name = args.get("as");
  options.look_only = args.has("look-only");
  for (const auto& mapping : args.list("map")) options.map.push_back(parse_mapping(mapping));
  options.passphrase = [&] { return find_passphrase(args, base_name(options.shelf), "", true); };
  options.passphrase_given = passphrase_given(args);
  options.unprotected_meant = args.has("unprotected");
  ReadObserver observer(context);
  Adopted adopted = adopt_shelf(context.home, options, context.clock, observer);
  observer.end();
  int exit = adopted.damaged ? 4 : 0;
  if (context.json) {
    Json problems = Json::array(), missing = Json::array();
    for (const auto& problem : adopted.problems) problems.push_back(printable(problem));
    for (const auto& folder : adopted.missing) missing.push_back(printable(folder));
    context.print_json(
        {{"job", adopted.job},
         {"shelf", adopted.shelf},
         {"host", printable(adopted.old_host)},
         {"sets", adopted.sets},
         {"files", adopted.files},
         {"newest", adopted.newest == 0 ? Json(nullptr) : Json(format_rfc3339(adopted.newest))},
         {"missing", missing},
         {"commands", {{"before", printable(adopted.before)}, {"after", printable(adopted.after)}}},
         {"problems", problems},
         {"adopted", !options.look_only}});
    return exit;
  }
  context.say(fmt::format("{} of {}: {}, {} at the newest{}", printable(adopted.old_job),
                          printable(adopted.old_host), counted(adopted.sets, "set"),
                          counted(adopted.files, "file"),
                          adopted.newest == 0 ? "" : ", " + format_local(adopted.newest)));
  Table table("<<");
  for (std::size_t i = 0; i < adopted.folders.size(); ++i) {
    table.add({i == 0 ? "copies" : "", printable(adopted.folders[i])});
  }
  for (const auto& folder : adopted.missing) table.add({"not here", printable(folder)});
  if (!adopted.before.empty()) table.add({"before", printable(adopted.before) + "  (off)"});
  if (!adopted.after.empty()) table.add({"after", printable(adopted.after) + "  (off)"});
  fmt::print("{}", table.text());
  for (const auto& problem : adopted.problems) context.say("problem: " + printable(problem));
  context.say();
  if (options.look_only) {
    context.say("nothing was changed");
    context.say("next: kestrum adopt " + shell_word(adopted.shelf) +
                ", or kestrum restore --shelf " + shell_word(adopted.shelf) + " PATH --to DIR");
    return exit;
  }
  std::string maps;
  for (const auto& [from, to] : options.map) maps += " --map " + shell_word(from + "=" + to);
  context.say(adopted.job + " is this PC's now; the other one is told so at its next run");
  bool commands = !adopted.before.empty() || !adopted.after.empty();
  context.say("Its schedule is paused until: kestrum job resume " + adopted.job);
  if (commands) context.say("Its commands are off: kestrum job edit " + adopted.job);
  if (!adopted.missing.empty()) {
    context.say("What is not here yet can be restored: kestrum restore " + adopted.job +
                " --in-place --everything" + maps);
  }
  context.say("next: kestrum forecast " + adopted.job);
  return exit;
}

}  // namespace kestrum::cli
