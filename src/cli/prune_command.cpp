#include <fmt/format.h>

#include "command.h"
#include "kestrum/backup/prune.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/job/hold.h"
#include "kestrum/machine/action_log.h"
#include "questions.h"
#include "read_observer.h"
#include "table.h"

namespace kestrum::cli {
namespace {

Json sets_json(const std::vector<PrunedSet>& sets) {
  Json list = Json::array();
  for (const PrunedSet& set : sets) {
    list.push_back({{"set", set.name()},
                    {"reason", set.reason},
                    {"bytes", set.bytes},
                    {"broke", set.broke.empty() ? Json(nullptr) : Json(set.broke)}});
  }
  return list;
}

// A line for sets that follow each other with one reason.
void add_grouped(Table& table, const std::string& fate, const std::vector<PrunedSet>& sets) {
  for (std::size_t i = 0; i < sets.size();) {
    std::size_t end = i;
    std::uint64_t bytes = 0;
    while (end < sets.size() && sets[end].reason == sets[i].reason) bytes += sets[end++].bytes;
    std::string names = sets[i].name();
    if (end - i > 1) {
      names = fmt::format("{}, {} to {}", counted(end - i, "set"), names, sets[end - 1].name());
    }
    table.add({fate, names, format_size(bytes), sets[i].reason});
    i = end;
  }
}

// Shows what --damaged would remove and asks; the sets that may go, none if there are none. Throws
// Error(kUsage) where nobody is there to be asked, Error(kStopped) for a no.
std::set<SetId> agreed_to_lose(const Context& context, const Job& job,
                               const std::optional<std::string>& on, PruneOptions options,
                               Observer& observer) {
  options.rehearse = true;
  PruneReport would = prune_job(context.machine(), job, on, options, context.clock, observer);
  std::vector<SetId> ids = would.removed_ids();
  if (ids.empty()) return {};
  Table table("<<>w");
  add_grouped(table, "would go", would.removed);
  if (!context.json) fmt::print("{}", table.text());
  if (!context.yes) {
    if (!can_ask(context)) {
      throw Error(
          ErrorKind::kUsage,
          fmt::format("{} would go, and nobody is there to be asked", counted(ids.size(), "set")),
          "add --yes if that is meant")
          .about_job(job.name);
    }
    if (!ask_yes("Remove them? What they alone hold cannot be restored any more", false)) {
      throw Error(ErrorKind::kStopped, "nothing was removed");
    }
  }
  return {ids.begin(), ids.end()};
}

}  // namespace

int prune_sets(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum prune NAME");
  const std::string& name = args.positional()[0];
  Job job = context.jobs().load(name);
  PruneOptions options;
  options.rehearse = args.has("rehearse");
  options.break_promises = args.has("break-promises");
  options.clock_is_right = args.has("clock-is-right");
  options.stop = stop_requested;
  if (auto size = args.get("to-free")) {
    options.to_free = parse_size(*size);
    if (!options.to_free) {
      throw Error(ErrorKind::kUsage, "--to-free: \"" + printable(*size) + "\" is not a size",
                  "such as 20 GB");
    }
  }
  options.damaged = args.has("damaged");
  if (options.damaged && (options.to_free || options.break_promises)) {
    throw Error(ErrorKind::kUsage, "--damaged removes damaged chains alone",
                "not with --to-free or --break-promises");
  }
  if (!options.rehearse) refuse_if_held(job);
  ReadObserver observer(context);
  if (options.damaged && !options.rehearse) {
    options.agreed = agreed_to_lose(context, job, args.get("on"), options, observer);
  }
  PruneReport report =
      prune_job(context.machine(), job, args.get("on"), options, context.clock, observer);
  observer.end();
  if (!options.rehearse && !report.removed.empty()) {
    std::string sets;
    for (const PrunedSet& set : report.removed) sets += (sets.empty() ? "" : ", ") + set.name();
    note_action(context.machine(), name, "prune", sets, context.clock.now());
  }
  int exit = report.missing > 0 ? 6 : 0;
  if (context.json) {
    context.print_json({{"job", name},
                        {"removed", sets_json(report.removed)},
                        {"stays", sets_json(report.stays)},
                        {"freed", report.freed},
                        {"free", report.room ? Json(report.room->free) : Json(nullptr)},
                        {"missing", report.missing},
                        {"unfinished", report.unfinished},
                        {"holds", report.kept_why},
                        {"for_thinning", report.for_thinning},
                        {"rehearsed", options.rehearse}});
    return exit;
  }
  bool with_unfinished = !report.removed.empty() && report.removed[0].unfinished;
  std::string count = counted(report.removed.size() - with_unfinished, "set");
  if (with_unfinished) count += " and the unfinished one";
  if (report.removed.empty()) {
    context.say(name + ": " +
                (!report.blocked_by.empty() ? report.blocked_by
                 : options.damaged          ? "no damaged chain was followed by a whole one"
                                            : "nothing to remove"));
  } else if (options.rehearse) {
    context.say(
        fmt::format("{}: would remove {} and free {}", name, count, format_size(report.freed)));
  } else {
    context.say(
        fmt::format("{}: removed {}, {} freed{}", name, count, format_size(report.freed),
                    report.room ? ", " + format_size(report.room->free) + " free now" : ""));
  }
  Table table("<<>w");
  add_grouped(table, options.rehearse ? "would go" : "gone", report.removed);
  add_grouped(table, "stays", report.stays);
  if (report.unfinished > 0) {
    table.add({"stays", "unfinished", format_size(report.unfinished),
               "the next run goes on with it; --to-free takes it first"});
  }
  fmt::print("{}", table.text());
  bool broken = false;
  for (const PrunedSet& set : report.removed) {
    if (set.broke.empty()) continue;
    if (!broken) context.say(coloured("restore points lost that a promise held:", kRed));
    broken = true;
    context.say("  " + set.lost_in_words());
  }
  if (report.for_thinning > 0) {
    context.say(
        fmt::format("Thinning alone holds {} of what stays.", format_size(report.for_thinning)));
  }
  for (const auto& wish : report.unmet) context.say(wish.text + "; " + report.kept_why);
  if (report.missing > 0) {
    context.tell(
        fmt::format("{}: {} short; {}", name, format_size(report.missing), report.kept_why));
    if (!options.break_promises) {
      context.tell("  --break-promises goes further: first thin, then for, then chains");
    }
  }
  return exit;
}

}  // namespace kestrum::cli
