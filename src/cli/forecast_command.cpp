#include <fmt/format.h>
#include <fmt/ranges.h>

#include <cmath>

#include "command.h"
#include "due_runs.h"
#include "forecast_choose.h"
#include "forecast_words.h"
#include "kestrum/access/resolve_path.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/explain_path.h"
#include "kestrum/inspect/forecast.h"
#include "left_out_words.h"
#include "read_observer.h"
#include "run_job.h"
#include "table.h"

namespace kestrum::cli {
namespace {

Json files_json(const FileCounts& f) {
  return {{"seen", f.seen}, {"copied", f.copied}, {"moved", f.moved},       {"same", f.same},
          {"gone", f.gone}, {"absent", f.absent}, {"left_out", f.left_out}, {"failed", f.failed}};
}

Json time_or_null(std::optional<Nanos> time) {
  return time ? Json(format_rfc3339(*time)) : Json(nullptr);
}

Json forecast_json(const std::string& job, const Forecast& forecast) {
  Json json = {
      {"job", job},
      {"set", forecast.next.id.to_string()},
      {"kind", kind_name(forecast.next.kind)},
      {"why", forecast.next.why},
      {"files", files_json(forecast.changes.files)},
      {"bytes",
       {{"seen", forecast.changes.bytes.seen},
        {"to_copy", forecast.changes.bytes.copied},
        {"estimated_stored", forecast.estimate.stored},
        {"estimated_off_by", forecast.estimate.error}}},
      {"seconds", forecast.estimate.seconds ? Json(*forecast.estimate.seconds) : Json(nullptr)}};
  json["room"] = {{"free", forecast.room ? Json(forecast.room->free) : Json(nullptr)},
                  {"needed", forecast.needed},
                  {"peak", forecast.room ? forecast.plan.middle.outlook.peak : forecast.needed},
                  {"enough", forecast.room ? Json(forecast.enough()) : Json(nullptr)}};
  json["disks"] = nullptr;
  if (const auto& disks = forecast.disks) {
    Json waiting = Json::array();
    for (const DisksToCome::Waiting& disk : disks->waiting) {
      waiting.push_back({{"name", printable(disk.name)}, {"free", disk.free}});
    }
    json["disks"] = {{"on", printable(disks->on)},
                     {"size", disks->size},
                     {"more", disks->more},
                     {"plan", disks->plan},
                     {"waiting", waiting}};
  }
  json["kept"] = {{"parts", forecast.kept_parts}, {"bytes", forecast.kept_bytes}};
  json["would_prune"] = Json::array();
  const Outlook& plan = forecast.plan.middle.outlook;
  for (SetId id : plan.next_prunes) json["would_prune"].push_back(id.to_string());
  json["plan"] = nullptr;
  if (forecast.room) {
    json["plan"] = {
        {"fits", forecast.plan_fits()},
        {"runs_until_full", plan.runs_that_fit ? Json(*plan.runs_that_fit) : Json(nullptr)},
        {"full_at", time_or_null(forecast.plan.middle.full_at)},
        {"full_between",
         {time_or_null(forecast.plan.fast.full_at), time_or_null(forecast.plan.slow.full_at)}},
        {"above_at_most_at", time_or_null(forecast.plan.middle.above_wish_at)},
        {"by", forecast.plan.from},
        {"full_set", forecast.plan.full_bytes},
        {"dependent_set", forecast.plan.dependent_bytes},
        {"growth_a_day", std::llround(forecast.plan.seen_growth)},
        {"must_hold", plan.most_held},
        {"peak_at", format_rfc3339(plan.peak_at)},
        {"fulls_at_once", plan.fulls_at_once},
        {"looked_ahead_to", format_rfc3339(forecast.plan.last_run)}};
  }
  json["folders"] = Json::array();
  for (const FolderChanges& folder : forecast.changes.folders) {
    Json item = {{"files", files_json(folder.files)},
                 {"bytes", {{"seen", folder.bytes.seen}, {"to_copy", folder.bytes.copied}}}};
    put_name(item, "path", folder.folder);
    json["folders"].push_back(item);
  }
  json["left_out"] = Json::object();
  for (std::size_t i = 1; i < kRules; ++i) {
    const RuleCount& count = forecast.changes.left_out[i];
    if (count.files + count.folders == 0) continue;
    json["left_out"][rule_name(static_cast<Rule>(i))] = {
        {"files", count.files}, {"folders", count.folders}, {"bytes", count.bytes}};
  }
  json["warnings"] = Json::array();
  for (const Warning& warning : forecast.changes.warnings) {
    Json item = {{"reason", printable(warning.reason)}};
    put_name(item, "path", warning.path);
    json["warnings"].push_back(item);
  }
  json["suspect_why"] =
      forecast.changes.suspect_why.empty() ? Json(nullptr) : Json(forecast.changes.suspect_why);
  json["away"] = forecast.away.empty() ? Json(nullptr) : Json(forecast.away);
  return json;
}

int why_path(const Context& context, const Job& job, const std::string& typed) {
  bool anchored = false;
  std::string path = stored_form(typed, anchored);
  path = absolute_path(anchored ? "/" + path : path);
  std::vector<std::string> lines = explain_path(context.machine(), job, path);
  if (context.json) {
    Json json = {{"job", job.name}, {"in", lines[0].starts_with("in")}, {"why", lines}};
    put_name(json, "path", path);
    context.print_json(json);
    return 0;
  }
  context.data("", printable(path));
  for (const auto& line : lines) context.say("  " + line);
  return 0;
}

std::vector<std::string> names_of(const std::vector<SetId>& sets) {
  std::vector<std::string> names;
  names.reserve(sets.size());
  for (SetId id : sets) names.push_back(id.to_string());
  return names;
}

std::string range_in_words(const Forecast& forecast) {
  const std::optional<Nanos>& early = forecast.plan.fast.full_at;
  const std::optional<Nanos>& late = forecast.plan.slow.full_at;
  std::string from = format_day(early.value_or(*forecast.plan.middle.full_at));
  if (!late) return " (from " + from + " on, or not at all)";
  return from == format_day(*late) ? "" : fmt::format(" ({} to {})", from, format_day(*late));
}

// What the plan was worked out with, and how that was found.
std::string rate_in_words(const Forecast& forecast) {
  const JobOutlook& plan = forecast.plan;
  std::string text = fmt::format("by {}: about {} for each set that follows a full one", plan.from,
                                 format_size(plan.dependent_bytes));
  double growth = plan.seen_growth;
  if (std::abs(growth) >= 1) {
    text += fmt::format(", files {} by {} a day", growth > 0 ? "grow" : "shrink",
                        format_size(static_cast<std::uint64_t>(std::abs(growth))));
  }
  return text;
}

// Which disks it takes, where one follows the other.
void add_disks(Table& table, const DisksToCome& disks) {
  std::string size = format_size(disks.size), on = printable(disks.on);
  table.add({"disks", disks.more == 0 ? "the set fits on " + on
                                      : fmt::format("{} and {} more of its size ({})", on,
                                                    counted(disks.more, "disk"), size)});
  std::string waiting;
  for (const DisksToCome::Waiting& disk : disks.waiting) {
    waiting += (waiting.empty() ? "" : ", ") + printable(disk.name) + " (" +
               format_size(disk.free) + " free)";
  }
  table.add({"", waiting.empty() ? std::string("none that is plugged in waits for its turn")
                                 : "its turn is next: " + waiting});
  table.add(
      {"", fmt::format("the plan takes {} of that size in all", counted(disks.plan, "disk"))});
}

// The room now and what the plan comes to.
void add_room(Table& table, const Forecast& forecast) {
  const Outlook& plan = forecast.plan.middle.outlook;
  std::uint64_t had = forecast.room->free + forecast.freed_before;
  table.add({"room", fmt::format("{} free, {} needed, {} left after",
                                 format_size(forecast.room->free), format_size(forecast.needed),
                                 format_size(had > forecast.needed ? had - forecast.needed : 0))});
  if (forecast.freed_before > 0) {
    table.add({"", fmt::format("pruning frees {} first", format_size(forecast.freed_before))});
  }
  if (!plan.next_prunes.empty()) {
    table.add({"prunes", counted(plan.next_prunes.size(), "set") + ": " +
                             fmt::format("{}", fmt::join(names_of(plan.next_prunes), ", "))});
  }
  if (!forecast.no_pruning.empty()) table.add({"prunes", forecast.no_pruning});
  table.add({"plan",
             fmt::format("at most {} on the shelf, {} at once, on {}", format_size(plan.most_held),
                         counted(plan.fulls_at_once, "full set"), format_day(plan.peak_at))});
  if (plan.dependents > 0 || forecast.plan.from != "nothing known") {
    table.add({"", rate_in_words(forecast)});
  }
  if (forecast.disks) return add_disks(table, *forecast.disks);
  if (!forecast.enough() || forecast.plan.middle.full_at) return;
  std::string text = "fits; looked ahead to " + format_day(forecast.plan.last_run);
  if (forecast.plan.fast.full_at) {
    text += "; if it grows faster, full on " + format_day(*forecast.plan.fast.full_at);
  }
  table.add({"", text});
}

// That the disk is too small, now or later.
void print_lack_of_room(const Context& context, const std::string& job, const Forecast& forecast) {
  std::uint64_t free = forecast.room->free, had = free + forecast.freed_before;
  if (forecast.disks) {
    had += forecast.free_on_waiting();
    if (forecast.enough()) return;
    return context.say(coloured(
        fmt::format("  {} too little room on the disks that are here: another one will be asked "
                    "for",
                    format_size(forecast.needed - had)),
        kMagenta));
  }
  if (!forecast.enough()) {
    context.say(coloured(fmt::format("  {} too little room: it will not fit; {}",
                                     format_size(forecast.needed - had), forecast.kept_why),
                         kRed));
  } else if (forecast.plan.middle.full_at) {
    const Outlook& plan = forecast.plan.middle.outlook;
    context.say(coloured(fmt::format("  The disk is full about {}{}, after {}: the plan needs {} "
                                     "more than is free",
                                     format_day(*forecast.plan.middle.full_at),
                                     range_in_words(forecast), counted(*plan.runs_that_fit, "run"),
                                     format_size(plan.peak - std::min(plan.peak, free))),
                         kMagenta));
    context.say(
        "  a larger disk, a shorter promise (for, chains, thin) or other folders: kestrum job "
        "edit " +
        job);
  }
  if (forecast.plan.middle.above_wish_at) {
    context.say(
        coloured(fmt::format("  The shelf holds more than at_most from {} on: no promise lets "
                             "go of what it holds then",
                             format_day(*forecast.plan.middle.above_wish_at)),
                 kMagenta));
  }
}

// A row a folder; of what may happen to files only what does.
std::string changes_table(const Forecast& forecast) {
  std::vector<std::pair<std::string, FolderChanges>> rows;
  for (const FolderChanges& folder : forecast.changes.folders) {
    rows.emplace_back(printable(folder.folder), folder);
  }
  if (rows.size() != 1) {
    rows.emplace_back("all", FolderChanges{"", forecast.changes.files, forecast.changes.bytes});
  }
  std::vector<std::string> head = {"", "new, changed", "bytes"};
  std::vector<std::uint64_t FileCounts::*> columns;
  for (auto [name, count] : {std::pair{"moved", &FileCounts::moved},
                             {"same", &FileCounts::same},
                             {"gone", &FileCounts::gone},
                             {"absent", &FileCounts::absent}}) {
    if (forecast.changes.files.*count == 0) continue;
    head.push_back(name);
    columns.push_back(count);
  }
  Table table("p" + std::string(head.size() - 1, '>'));
  table.add(head);
  for (const auto& [name, changes] : rows) {
    std::vector<std::string> cells = {name, format_count(changes.files.copied),
                                      format_size(changes.bytes.copied)};
    for (auto count : columns) cells.push_back(format_count(changes.files.*count));
    table.add(cells);
  }
  return table.text();
}

}  // namespace

void print_forecast(const Context& context, const std::string& job, const Forecast& forecast) {
  const FileCounts& f = forecast.changes.files;
  std::string size =
      fmt::format("{} in {}, about {} stored", format_size(forecast.changes.bytes.copied),
                  counted(f.copied, "file"), format_size(forecast.estimate.stored));
  context.say(fmt::format("{}: the next set is {} ({}), {}", job, forecast.next.id.to_string(),
                          kind_name(forecast.next.kind), size));
  context.say("  why: " + forecast.next.why);
  context.say();
  fmt::print("{}", changes_table(forecast));
  if (std::string words = left_out_words(forecast.changes.left_out); !words.empty()) {
    context.say("  " + words);
  }
  context.say();
  Table table("<w");
  table.add({"size",
             fmt::format("about {} (give or take {}), by {}", format_size(forecast.estimate.stored),
                         format_size(forecast.estimate.error), forecast.estimate.from)});
  if (forecast.kept_parts > 0) {
    table.add({"kept", fmt::format("{} ({}) of the run that did not finish; it is gone on with",
                                   counted(forecast.kept_parts, "part"),
                                   format_size(forecast.kept_bytes))});
  }
  if (forecast.estimate.seconds) {
    table.add(
        {"time", "about " +
                     format_duration(static_cast<Nanos>(*forecast.estimate.seconds * kSecond)) +
                     ", by past runs"});
  }
  if (forecast.room) {
    add_room(table, forecast);
  } else {
    table.add({"room", forecast.away.empty()
                           ? format_size(forecast.needed) +
                                 " needed; how much is free the server does not tell"
                           : "not known: " + printable(forecast.away)});
  }
  fmt::print("{}", table.text());
  if (forecast.room) print_lack_of_room(context, job, forecast);
  if (!forecast.changes.suspect_why.empty()) {
    context.say(
        coloured("  suspect the set would be: " + printable(forecast.changes.suspect_why), kRed));
  }
  for (const auto& folder : forecast.fresh_folders) {
    context.say("  a new folder matches: " + printable(folder));
  }
  for (const Warning& warning : forecast.changes.warnings) {
    context.data("  warning: ", printable(warning.path), ": " + printable(warning.reason));
  }
}

int show_forecast(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum forecast NAME");
  const std::string& name = args.positional()[0];
  Job job = context.jobs().load(name);
  if (auto path = args.get("why")) return why_path(context, job, *path);
  ForecastOptions options;
  options.on_place = args.get("on");
  options.stop = stop_requested;
  options.kind = wanted_kind(args);
  ReadObserver observer(context);
  Json list = Json::array();
  if (args.has("files")) {
    options.visit = [&](FileFate fate, const std::string& path, std::uint64_t size, Rule rule) {
      std::string by = rule == Rule::kTaken ? "" : fmt::format("  ({})", rule_name(rule));
      if (context.json) {
        Json item = {{"what", fate_name(fate)}, {"size", size}};
        item["rule"] = rule == Rule::kTaken ? Json(nullptr) : Json(rule_name(rule));
        put_name(item, "path", path);
        list.push_back(item);
        return;
      }
      observer.end();
      context.data(fmt::format("{:<8}  {:>9}  ", fate_name(fate), format_size(size)),
                   printable(path), by);
    };
  }
  if (args.has("choose")) {
    if (args.has("files")) {
      throw Error(ErrorKind::kUsage, "either --files or --choose", "kestrum help forecast");
    }
    CopyList copied(expand_patterns(job.folders));
    options.visit = [&](FileFate fate, const std::string& path, std::uint64_t size, Rule) {
      if (fate == FileFate::kNew || fate == FileFate::kChanged) copied.add(path, size);
    };
    make_forecast(context.machine(), job, options, context.clock, observer);
    observer.end();
    return leave_out_by_hand(context, job, copied);
  }
  Forecast forecast = make_forecast(context.machine(), job, options, context.clock, observer);
  observer.end();
  int exit = !forecast.enough() ? 6 : 0;
  if (context.json) {
    Json json = forecast_json(name, forecast);
    if (args.has("files")) json["list"] = list;
    context.print_json(json);
    return exit;
  }
  if (args.has("files")) context.say();
  print_forecast(context, name, forecast);
  return exit;
}

int rehearse_runs(const Context& context, const Args& args) {
  std::vector<std::string> names = args.positional();
  if (args.has("all")) names = context.jobs().names();
  if (names.empty()) {
    throw Error(ErrorKind::kUsage, "which job?", "kestrum run NAME --rehearse");
  }
  Json runs = Json::array();
  int exit = 0;
  for (const auto& name : names) {
    ForecastOptions options;
    options.on_place = args.get("on");
    options.kind = wanted_kind(args);
    options.stop = stop_requested;
    ReadObserver observer(context);
    Job job = context.jobs().load(name);
    Forecast forecast = make_forecast(context.machine(), job, options, context.clock, observer);
    observer.end();
    runs.push_back(forecast_json(name, forecast));
    exit = worse_exit(exit, !forecast.away.empty() ? 5 : !forecast.enough() ? 6 : 0);
    if (!context.json) print_forecast(context, name, forecast);
  }
  if (context.json) context.print_json({{"rehearsed", runs}});
  return exit;
}

}  // namespace kestrum::cli
