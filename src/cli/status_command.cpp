#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "command.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/job_status.h"
#include "kestrum/report/words.h"
#include "state_words.h"
#include "table.h"

namespace kestrum::cli {
namespace {

Json status_json(const JobStatus& s) {
  Json damage = Json::array();
  for (const KnownDamage& known : s.damage) {
    damage.push_back(
        {{"set", known.set.to_string()},
         {"file", known.file},
         {"reason", printable(known.reason)},
         {"found", format_rfc3339(known.found)},
         {"mended_by", known.mended_by ? Json(known.mended_by->to_string()) : Json(nullptr)}});
  }
  Json json = {
      {"job", s.job},
      {"host", s.host},
      {"last_run", time_json(s.last_run)},
      {"outcome", s.outcome.empty() ? Json(nullptr) : Json(s.outcome)},
      {"reason", s.reason.empty() ? Json(nullptr) : Json(printable(s.reason))},
      {"next_run", time_json(s.next_run)},
      {"running", nullptr},
      {"waiting_since", time_json(s.waiting_since)},
      {"waiting_for", s.waiting_for.empty() ? Json(nullptr) : Json(printable(s.waiting_for))},
      {"restore_points", s.shelf ? Json(s.shelf->restore_points) : Json(nullptr)},
      {"newest", time_json(s.shelf ? s.shelf->newest : 0)},
      {"oldest", time_json(s.shelf ? s.shelf->oldest : 0)},
      {"stored_bytes", s.shelf ? Json(s.shelf->stored_bytes) : Json(nullptr)},
      {"free_bytes", s.shelf && s.shelf->free_bytes ? Json(*s.shelf->free_bytes) : Json(nullptr)},
      {"paused", s.paused},
      {"paused_until", time_json(s.paused_until)},
      {"suspect", s.suspect ? Json(s.suspect->to_string()) : Json(nullptr)},
      {"last_unlocked", time_json(s.last_unlocked)},
      {"last_drill", s.drill.when == 0 ? Json(nullptr)
                                       : Json{{"when", format_rfc3339(s.drill.when)},
                                              {"files", s.drill.files},
                                              {"mismatches", s.drill.mismatches}}},
      {"last_verify", s.verified.when == 0 ? Json(nullptr)
                                           : Json{{"when", format_rfc3339(s.verified.when)},
                                                  {"parts", s.verified.parts},
                                                  {"damaged", s.verified.damaged},
                                                  {"contents", s.verified.contents}}},
      {"damage", damage},
      {"state", state_name(s.level)},
      {"problem", s.problems.empty()
                      ? Json(nullptr)
                      : Json(printable(fmt::format("{}", fmt::join(s.problems, "; "))))}};
  json["why"] = Json::array();
  for (const auto& text : s.problems) json["why"].push_back(printable(text));
  for (const auto& text : s.heeds) json["why"].push_back(printable(text));
  json["copies"] = Json::array();
  for (const CopySeen& copy : s.copies) {
    json["copies"].push_back(
        {{"place", printable(copy.place)},
         {"made", copy.when == 0 ? Json(nullptr) : Json(format_rfc3339(copy.when))},
         {"newest", copy.newest ? Json(copy.newest->to_string()) : Json(nullptr)},
         {"behind", copy.behind()}});
  }
  if (s.running) {
    json["running"] = {{"activity", s.running->activity},
                       {"since", format_rfc3339(s.running->since)},
                       {"progress", s.running->progress},
                       {"process", s.running->process}};
  }
  return json;
}

std::string ago_or_never(Nanos then, Nanos now) {
  return then == 0 ? "never" : format_ago(then, now);
}

// What is to be said about a job, the worst first.
std::vector<std::string> reasons(const JobStatus& s) {
  std::vector<std::string> all;
  if (s.running) {
    all.push_back("running since " + format_local_day(s.running->since) +
                  (s.running->progress.empty() ? "" : ", " + s.running->progress));
  }
  for (const auto* list : {&s.problems, &s.heeds, &s.remarks}) {
    for (const std::string& text : *list) all.push_back(printable(text));
  }
  return all;
}

int probe(const std::vector<JobStatus>& all) {
  StatusLevel worst = StatusLevel::kFine;
  std::string troubles;
  for (const JobStatus& s : all) {
    if (s.level == StatusLevel::kFine) continue;
    worst = std::max(worst, s.level);
    troubles += (troubles.empty() ? "" : "; ") + s.job + ": " +
                fmt::format("{}", fmt::join(reasons(s), ", "));
  }
  if (all.empty()) return print_probe(std::nullopt, "no jobs on this PC");
  if (troubles.empty()) troubles = counted(all.size(), "job") + " in order";
  return print_probe(worst, troubles);
}

void print_one(const JobStatus& s, Nanos now) {
  Table table("<w");
  table.add(
      {"last run", s.last_run == 0 ? "never" : format_local_day(s.last_run) + ", " + s.outcome});
  if (!s.reason.empty() && s.outcome != "failed") table.add({"", printable(s.reason)});
  table.add({"next run", s.next_run != 0        ? format_local_day(s.next_run)
                         : s.waiting_since != 0 ? "at the next chance"
                         : s.by_hand            ? "by hand"
                         : s.when_files_change  ? "when files change (kestrum run --stay)"
                                                : "-"});
  if (s.shelf) {
    table.add({"newest", s.shelf->newest == 0 ? "no set yet"
                                              : fmt::format("restore point of {}, {}",
                                                            format_local_day(s.shelf->newest),
                                                            format_ago(s.shelf->newest, now))});
    if (s.shelf->restore_points > 0) {
      table.add(
          {"holds", fmt::format("{} back to {}, {} stored",
                                counted(s.shelf->restore_points, "restore point"),
                                format_day(s.shelf->oldest), format_size(s.shelf->stored_bytes))});
    }
    if (s.shelf->free_bytes) {
      table.add({"room", format_size(*s.shelf->free_bytes) + " free" +
                             (s.attached ? "" : " when it was last there")});
    }
    table.add({"shelf", printable(s.shelf->path)});
  }
  if (s.disks.size() > 1 || !s.attached) {
    for (const DiskSeen& disk : s.disks) {
      table.add({&disk != &s.disks.front() ? ""
                 : s.disks.size() > 1      ? "disks"
                                           : "disk",
                 fmt::format("{}, {}", printable(disk.place),
                             disk.last_seen == 0
                                 ? "never seen yet"
                                 : "last seen " + format_ago(disk.last_seen, calendar_now()))});
    }
  }
  for (const CopySeen& copy : s.copies) {
    table.add({&copy != &s.copies.front() ? ""
               : s.copies.size() > 1      ? "copies"
                                          : "copy",
               printable(copy.place) + ", " + copy.in_words(calendar_now())});
  }
  if (s.last_unlocked != 0) {
    table.add({"passphrase", "last used " + format_ago(s.last_unlocked, calendar_now())});
  }
  if (s.shelf && s.shelf->restore_points > 0) {
    table.add({"last verify", verify_in_words(s, calendar_now())});
    table.add({"last drill", drill_in_words(s, calendar_now())});
  }
  fmt::print("{}", table.text());
}

}  // namespace

int show_status(const Context& context, const Args& args) {
  if (args.has("shelves")) return show_fleet(context, args);
  if (args.has("expect")) {
    throw Error(ErrorKind::kUsage, "--expect goes with --shelves DIR",
                "kestrum status --shelves DIR --expect FILE");
  }
  args.expect(0, 1, "kestrum status [NAME]");
  std::vector<std::string> names = args.positional();
  if (names.empty()) {
    names = context.jobs().names();
  } else if (!context.jobs().has(names[0])) {
    context.jobs().load(names[0]);  // says that there is no such job
  }
  Nanos now = context.clock.now();
  std::vector<JobStatus> all;
  std::optional<DueCaller> caller;
  if (!context.clock.simulated()) caller = find_due_caller(context.home);
  for (const auto& name : names) {
    all.push_back(job_status(context.home, name, caller, context.clock));
  }
  std::stable_sort(all.begin(), all.end(),
                   [](const JobStatus& a, const JobStatus& b) { return a.level > b.level; });
  if (args.has("probe")) return probe(all);
  if (context.json) {
    Json jobs = Json::array();
    for (const JobStatus& s : all) jobs.push_back(status_json(s));
    context.print_json({{"jobs", jobs}});
    return 0;
  }
  auto in_trouble = std::count_if(all.begin(), all.end(),
                                  [](const JobStatus& s) { return s.level != StatusLevel::kFine; });
  if (all.empty()) {
    context.say("no jobs yet");
    context.say("next: kestrum job new NAME --from PATH --to PLACE");
    return 0;
  }
  if (args.positional().size() == 1) {
    const JobStatus& s = all[0];
    context.say(s.job + ": " + coloured(state_name(s.level), colour_of(s.level)));
    for (const std::string& text : reasons(s)) context.say("  " + text);
    print_one(s, now);
    return 0;
  }
  context.say(
      fmt::format("{}, {}", counted(all.size(), "job"),
                  in_trouble == 0 ? "all in order" : fmt::format("{} to look at", in_trouble)));
  Table table("<p<<<>");
  table.add({"", "job", "last run", "outcome", "next run", "free"});
  for (const JobStatus& s : all) {
    std::string next = s.next_run != 0       ? format_local_day(s.next_run)
                       : s.when_files_change ? "on change"
                       : s.by_hand           ? "by hand"
                                             : "-";
    table.add({state_name(s.level), s.job, ago_or_never(s.last_run, now),
               s.outcome.empty() ? "-" : s.outcome, next,
               s.shelf && s.shelf->free_bytes ? format_size(*s.shelf->free_bytes) : "-"});
  }
  // What is to be said about a job stands below its line.
  std::vector<std::string> lines = split(table.text(), '\n');
  context.say(lines[0]);
  for (std::size_t i = 0; i < all.size(); ++i) {
    context.say(lines[i + 1]);
    for (const std::string& text : reasons(all[i])) context.say("           " + text);
  }
  return 0;
}

}  // namespace kestrum::cli
