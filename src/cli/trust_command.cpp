#include <fmt/format.h>

#include "command.h"
#include "kestrum/access/open_shelf.h"
#include "kestrum/base/text.h"
#include "kestrum/machine/job_lock.h"

namespace kestrum::cli {

int trust_set(const Context& context, const Args& args) {
  const std::string usage = "kestrum trust NAME SET --because TEXT";
  args.expect(2, 2, usage);
  const std::string& name = args.positional()[0];
  auto id = SetId::parse(args.positional()[1]);
  if (!id) {
    throw Error(ErrorKind::kUsage,
                "\"" + printable(args.positional()[1]) + "\" is not a set such as c3-7", usage);
  }
  std::string given = args.get("because").value_or("");
  std::string because(trimmed(given));
  if (because.empty()) {
    throw Error(ErrorKind::kUsage, "why is it all right? --because TEXT", usage);
  }
  Job job = context.jobs().load(name);
  MachineState machine = context.machine();
  JobLock lock(machine, name, "trusting a set");
  OpenShelf open = find_shelf(machine, job, args.get("on"));
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
                            printable(next->seal.suspect_why)));
  } else {
    context.say("Pruning goes on with the next run.");
  }
  return 0;
}

}  // namespace kestrum::cli
