#include <fmt/format.h>

#include <algorithm>

#include "command.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/named_file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/agenda.h"
#include "kestrum/schedule/calendar_file.h"
#include "table.h"

namespace kestrum::cli {
namespace {

constexpr int kDays = 7;
constexpr int kMostDays = 3660;
constexpr std::size_t kMostEntries = 20'000;  // of a job
constexpr std::size_t kEntriesShown = 60;

std::string weekday(Nanos at) {
  unsigned day = date::weekday(Zone::local().wall(at).day).c_encoding();
  constexpr const char* kNames[] = {"sun", "mon", "tue", "wed", "thu", "fri", "sat"};
  return kNames[day];
}

constexpr auto kEarlier = [](const auto& a, const auto& b) { return a.at < b.at; };

struct Line {
  Nanos at = 0;
  std::vector<std::string> cells;
};

void print_entries(const Context& context, const std::vector<AgendaEntry>& runs,
                   const std::vector<CheckEntry>& checks, Nanos until) {
  std::vector<Line> lines;
  lines.reserve(runs.size() + checks.size());
  for (const AgendaEntry& run : runs) {
    lines.push_back(
        {run.at,
         {weekday(run.at), run.made_up ? "next chance" : format_local(run.at), run.job,
          std::string(kind_name(run.kind)) + (run.made_up ? ", makes up for a missed time" : "")}});
  }
  for (const CheckEntry& check : checks) {
    lines.push_back(
        {check.at, {weekday(check.at), format_local(check.at), check.job, check_name(check.what)}});
  }
  std::stable_sort(lines.begin(), lines.end(), kEarlier);
  std::string counts = counted(runs.size(), "run");
  if (!checks.empty()) counts += ", " + counted(checks.size(), "check");
  context.say(fmt::format("{} until {}", counts, format_local(until)));
  Table table("<<<w");
  for (std::size_t i = 0; i < std::min(lines.size(), kEntriesShown); ++i) {
    table.add(std::move(lines[i].cells));
  }
  fmt::print("{}", table.text());
  if (lines.size() > kEntriesShown) {
    context.say(fmt::format("  and {} more (--json has them all)", lines.size() - kEntriesShown));
  }
}

}  // namespace

int show_agenda(const Context& context, const Args& args) {
  args.expect(0, 1, "kestrum agenda [NAME]");
  std::vector<std::string> names = args.positional();
  if (names.empty()) names = context.jobs().names();
  Nanos now = context.clock.now(),
        until = now + args.number("days", 1, kMostDays).value_or(kDays) * kDay;
  Scheduler scheduler(context.home, context.clock);
  std::vector<AgendaEntry> entries;
  std::vector<CheckEntry> checks;
  std::vector<DiskEntry> disks;
  std::vector<std::string> others;  // jobs that no time is known of
  for (const auto& name : names) {
    Job job;
    try {
      job = context.jobs().load(name);
    } catch (const Error& error) {
      if (!args.positional().empty()) throw;
      others.push_back(name + ": its file cannot be used: kestrum job check " + name);
      continue;
    }
    auto of_job = agenda_of(context.machine(), job, scheduler, {now, until, kMostEntries});
    ScheduleState state = scheduler.book().load(name);
    if (state.paused && of_job.empty()) {
      others.push_back(name + ": paused");
    } else if (job.when.empty()) {
      others.push_back(name + ": by hand");
    } else if (scheduler.timetable(job).when_files_change()) {
      others.push_back(name + ": when files change (kestrum run --stay)");
    } else if (of_job.empty()) {
      others.push_back(name + ": not in this time");
    }
    entries.insert(entries.end(), of_job.begin(), of_job.end());
    auto of_disks = disks_due(context.machine(), job, {now, until, kMostEntries});
    disks.insert(disks.end(), of_disks.begin(), of_disks.end());
    auto of_checks = checks_of(job, {now, until, kMostEntries});
    checks.insert(checks.end(), of_checks.begin(), of_checks.end());
  }
  std::stable_sort(entries.begin(), entries.end(), kEarlier);
  std::stable_sort(checks.begin(), checks.end(), kEarlier);

  if (auto file = args.get("ics")) {
    std::vector<CalendarEntry> calendar;
    calendar.reserve(entries.size());
    for (const AgendaEntry& entry : entries) {
      calendar.push_back({fmt::format("{}-{}@{}", entry.job, entry.at / kSecond, host_name()),
                          entry.at,
                          fmt::format("Kestrum: {} ({})", entry.job, kind_name(entry.kind))});
    }
    write_named_file(*file, calendar_text(calendar, now), 0644);
  }
  if (context.json) {
    Json runs = Json::array();
    for (const AgendaEntry& entry : entries) {
      runs.push_back({{"job", entry.job},
                      {"at", format_rfc3339(entry.at)},
                      {"kind", kind_name(entry.kind)},
                      {"made_up", entry.made_up}});
    }
    Json of_checks = Json::array();
    for (const CheckEntry& entry : checks) {
      of_checks.push_back(
          {{"job", entry.job}, {"at", format_rfc3339(entry.at)}, {"what", check_name(entry.what)}});
    }
    Json of_disks = Json::array();
    for (const DiskEntry& disk : disks) {
      of_disks.push_back({{"job", disk.job},
                          {"place", printable(disk.place)},
                          {"by", format_rfc3339(disk.by)},
                          {"last_seen", format_rfc3339(disk.last_seen)}});
    }
    context.print_json({{"runs", runs}, {"checks", of_checks}, {"disks", of_disks}});
    return 0;
  }
  print_entries(context, entries, checks, until);
  for (const DiskEntry& disk : disks) {
    context.say(fmt::format("  {}: plug in {} {}", disk.job, printable(disk.place),
                            disk.by <= now ? "now, it is due since " + format_local(disk.by)
                                           : "by " + format_local(disk.by)));
  }
  for (const auto& other : others) context.say("  " + other);
  if (auto file = args.get("ics")) context.say("written to " + printable(*file));
  return 0;
}

}  // namespace kestrum::cli
