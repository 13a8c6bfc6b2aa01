#include <fmt/format.h>

#include <algorithm>

#include "command.h"
#include "kestrum/backup/move_job.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/action_log.h"
#include "kestrum/place/address.h"
#include "read_observer.h"
#include "shelf_copy_words.h"
#include "table.h"

namespace kestrum::cli {
namespace {

// The job knows of its copies, so that they can be made by themselves, and told of.
bool remember_place(const Context& context, const Job& job, const std::string& place) {
  std::vector<std::string> places = job.copies.to;
  if (std::find(places.begin(), places.end(), place) != places.end()) return false;
  places.push_back(place);
  return context.jobs().edit(job.name, {{"copies.to", KeyValue(places)}});
}

}  // namespace

std::string copy_in_words(const CopyJobResult& result) {
  const CopyResult& copy = result.copy;
  std::string text =
      copy.copied.empty() && copy.problems.empty()
          ? fmt::format("up to date: {} on {}", counted(copy.there, "set"), printable(copy.folder))
          : fmt::format("{}, {}, to {}", counted(copy.copied.size(), "set"),
                        format_size(copy.bytes), printable(copy.folder));
  if (!result.removed.empty()) {
    text +=
        fmt::format("; {} that no promise holds went there", counted(result.removed.size(), "set"));
  }
  if (!copy.problems.empty()) text += "; NOT ALL: " + printable(copy.problems.front());
  return text;
}

namespace {

Json json_of(const std::string& name, const CopyJobResult& result) {
  const CopyResult& copy = result.copy;
  Json copied = Json::array(), removed = Json::array(), problems = Json::array();
  for (const std::string& problem : copy.problems) problems.push_back(printable(problem));
  for (SetId set : copy.copied) copied.push_back(set.to_string());
  for (const PrunedSet& set : result.removed) removed.push_back(set.name());
  return {{"job", name},
          {"from", printable(result.from)},
          {"to", printable(copy.folder)},
          {"copied", copied},
          {"there", copy.there},
          {"bytes", copy.bytes},
          {"removed", removed},
          {"problems", problems}};
}

void print_copy(const Context& context, const std::string& name, const CopyJobResult& result) {
  const CopyResult& copy = result.copy;
  context.say(name + ": " +
              (copy.copied.empty() && copy.problems.empty()
                   ? "the copy is up to date"
                   : fmt::format("copied {}, {}", counted(copy.copied.size(), "set"),
                                 format_size(copy.bytes))));
  Table table("<w");
  table.add({"from", printable(result.from)});
  table.add({"to", printable(copy.folder)});
  if (copy.there > 0) table.add({"there already", counted(copy.there, "set")});
  for (const PrunedSet& set : result.removed) {
    table.add({"removed there", set.name() + ": " + set.reason});
  }
  for (const std::string& problem : copy.problems) {
    table.add({"NOT COPIED", printable(problem)});
  }
  fmt::print("{}", table.text());
}

void print_what_is_wrong(const Context& context, const std::string& name) {
  context.say("what is wrong there: kestrum verify " + name);
  context.say("a chain that can be copied: kestrum run " + name + " --kind full");
}

int move_here(const Context& context, const Job& job, const CopyJobOptions& options) {
  const std::string& name = job.name;
  ReadObserver observer(context);
  MoveJobResult result =
      move_job(context.machine(), context.jobs(), job, options, context.clock, observer);
  observer.end();
  int exit = result.moved ? 0 : 4;
  if (result.moved) {
    note_action(context.machine(), name, "move",
                printable(result.moved->from) + " to " + printable(result.moved->to),
                context.clock.now());
  }
  if (context.json) {
    Json json = result.copy ? json_of(name, *result.copy) : Json{{"job", name}};
    json["moved_to"] = result.moved ? Json(printable(result.moved->to)) : Json(nullptr);
    context.print_json(json);
    return exit;
  }
  if (result.copy) print_copy(context, name, *result.copy);
  if (!result.moved) {
    context.say(name + " stays where it is: not everything could be copied");
    print_what_is_wrong(context, name);
    return exit;
  }
  context.say(fmt::format("{} has moved to {}", name, printable(result.moved->to)));
  context.say(fmt::format("  nothing is written to {} any more", printable(result.moved->from)));
  if (!result.moved->not_marked.empty()) {
    context.say("  it is not marked there (" + result.moved->not_marked +
                "); this PC knows it without");
  }
  context.say(fmt::format("next: kestrum run {}, then kestrum verify {}", name, name));
  return exit;
}

}  // namespace

int shelf_copy(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum shelf copy NAME --to PLACE");
  const std::string& name = args.positional()[0];
  Job job = context.jobs().load(name);
  auto to = args.get("to");
  if (!to) {
    throw Error(ErrorKind::kUsage, "where to? --to PLACE",
                "a folder on another disk: kestrum shelf copy " + name + " --to PLACE");
  }
  CopyJobOptions options;
  options.place = place_named(*to);
  options.newest_chain = args.has("newest-chain");
  options.same_disk = args.has("same-disk");
  options.on = args.get("on");
  options.stop = stop_requested;
  if (args.has("move-here")) {
    if (options.newest_chain) {
      throw Error(ErrorKind::kUsage, "a shelf moves with all its sets: --newest-chain does not fit",
                  "leave it out, or prune first: kestrum prune " + name);
    }
    return move_here(context, job, options);
  }
  ReadObserver observer(context);
  CopyJobResult result = copy_job(context.machine(), job, options, context.clock, observer);
  observer.end();
  const CopyResult& copy = result.copy;
  bool news = remember_place(context, job, options.place);
  note_action(context.machine(), name, "copy", copy_in_words(result), context.clock.now());
  int exit = copy.problems.empty() ? 0 : 4;
  if (context.json) {
    context.print_json(json_of(name, result));
    return exit;
  }
  print_copy(context, name, result);
  if (exit != 0) {
    print_what_is_wrong(context, name);
  } else if (news && !context.quiet) {
    context.say("next: kestrum verify --shelf " + shell_word(copy.folder));
    if (job.copies.when.empty()) {
      context.say(
          fmt::format("by itself: kestrum job set {} copies.when \"every sunday at 12:00\"", name));
    }
  }
  return exit;
}

}  // namespace kestrum::cli
