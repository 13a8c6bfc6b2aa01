// The figures of one job.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/shelf_calendar.h"
#include "kestrum/report/calendar_figure.h"
#include "kestrum/report/csv.h"
#include "kestrum/report/figures.h"
#include "kestrum/report/palette.h"
#include "kestrum/report/plot.h"
#include "kestrum/report/words.h"

namespace kestrum {
namespace {

// A block of data may not be empty: a line that no range shows.
constexpr const char* kNoData = "NaN NaN NaN NaN";

std::string or_no_data(const std::string& text) {
  return text.empty() ? kNoData : text;
}

// A little beyond what there is on both sides, a day at least.
struct TimeRange {
  Nanos from, to;
};
TimeRange widened(Nanos from, Nanos to) {
  Nanos margin = std::max<Nanos>((to - from) / 50, kDay / 2);
  return {from - margin, to + margin};
}

void put_range(Plot& plot, TimeRange range) {
  plot.values.emplace_back("FROM", std::to_string(axis_time(range.from)));
  plot.values.emplace_back("TO", std::to_string(axis_time(range.to)));
  plot.values.emplace_back("TICS", day_tics(range.from, range.to));
}

std::string time_text(Nanos when) {
  return when == 0 ? "" : format_rfc3339(when);
}

}  // namespace

Figure calendar_figure(const JobFacts& facts) {
  Figure figure;
  figure.name = facts.status.job + "-calendar";
  figure.title = facts.status.job + ": restore points";
  std::vector<CalendarDay> days = shelf_calendar(facts.sets, facts.runs, facts.now);
  std::size_t restorable = 0, failed = 0, missed = 0;
  figure.csv = csv_line({"day", "set", "kind", "restorable", "pruned", "suspect"});
  for (const CalendarDay& day : days) {
    std::string date = date::format("%F", day.day);
    failed += day.failed;
    missed += day.missed && day.sets.empty();
    restorable += std::any_of(day.sets.begin(), day.sets.end(),
                              [](const CalendarSet& set) { return set.restorable; });
    for (const CalendarSet& set : day.sets) {
      figure.csv +=
          csv_line({date, set.id.to_string(), kind_name(set.kind), set.restorable ? "yes" : "no",
                    set.there ? "no" : "yes", set.suspect ? "yes" : "no"});
    }
    if (day.failed) figure.csv += csv_line({date, "", "failed", "no", "no", "no"});
    if (day.missed) figure.csv += csv_line({date, "", "missed", "no", "no", "no"});
  }
  figure.summary = fmt::format("{} of {} can be restored", restorable, counted(days.size(), "day"));
  if (failed > 0)
    figure.summary += fmt::format("; on {} a run made no set", counted(failed, "day"));
  if (missed > 0)
    figure.summary += fmt::format("; {} passed without a run", counted(missed, "day"));
  figure.svg = calendar_svg(figure.title, days);
  return figure;
}

Figure stored_figure(const JobFacts& facts, const DiskFacts& disk, const std::string& name,
                     Draftsman& draftsman) {
  Figure figure;
  figure.name = name;
  figure.title = fmt::format("{}: stored on {}, by chain", facts.status.job, disk.disk);
  figure.csv = csv_line({"set", "kind", "taken", "gone", "stored_bytes"});
  // Changes of all chains by moment; a chain is there from its first to its last.
  std::map<Nanos, std::map<std::uint32_t, std::int64_t>> changes;
  for (const StoredSet& set : facts.sets) {
    if (set.shelf != disk.shelf) continue;
    figure.csv += csv_line({set.set.to_string(), kind_name(set.kind), time_text(set.taken),
                            time_text(set.gone), std::to_string(set.stored)});
    changes[set.taken][set.set.chain] += static_cast<std::int64_t>(set.stored);
    if (set.gone != 0) changes[set.gone][set.set.chain] -= static_cast<std::int64_t>(set.stored);
  }
  if (changes.empty()) {
    figure.summary = "nothing is stored there yet";
    return figure;
  }
  TimeRange range = widened(changes.begin()->first, std::max(facts.now, changes.rbegin()->first));
  changes[range.to];  // all goes on until then
  struct Step {
    Nanos from, to;
    std::int64_t low, high;
  };
  std::map<std::uint32_t, std::vector<Step>> curves;
  std::map<std::uint32_t, std::int64_t> held;
  std::int64_t most = 0;
  Nanos most_at = 0;
  for (auto at = changes.begin(); std::next(at) != changes.end(); ++at) {
    for (const auto& [chain, bytes] : at->second) held[chain] += bytes;
    std::int64_t low = 0;
    for (const auto& [chain, bytes] : held) {
      if (bytes <= 0) continue;
      std::vector<Step>& steps = curves[chain];
      bool goes_on = !steps.empty() && steps.back().to == at->first && steps.back().low == low &&
                     steps.back().high == low + bytes;
      if (goes_on) {
        steps.back().to = std::next(at)->first;
      } else {
        steps.push_back({at->first, std::next(at)->first, low, low + bytes});
      }
      low += bytes;
    }
    if (low > most) most = low, most_at = at->first;
  }
  std::int64_t now_held = 0;
  std::size_t chains_now = 0;
  for (const auto& [chain, bytes] : held) now_held += bytes, chains_now += bytes > 0;
  figure.summary =
      fmt::format("{} in {} now; {} at the most, on {}",
                  format_size(static_cast<std::uint64_t>(now_held)), counted(chains_now, "chain"),
                  format_size(static_cast<std::uint64_t>(most)), format_day(most_at));
  AxisUnit unit = unit_for(static_cast<double>(most));
  std::string chains, names;
  std::size_t number = 0;
  for (const auto& [chain, steps] : curves) {
    // Its name goes into the longest stretch that nothing below it moves.
    std::size_t begin = 0, longest = 0, longest_end = 0;
    for (std::size_t i = 0; i < steps.size(); ++i) {
      const Step& step = steps[i];
      if (step.low != steps[begin].low) begin = i;
      if (step.to - steps[begin].from > steps[longest_end].to - steps[longest].from) {
        longest = begin;
        longest_end = i;
      }
      chains += fmt::format("{0} {2} {3}\n{1} {2} {3}\n", axis_time(step.from), axis_time(step.to),
                            static_cast<double>(step.low) / unit.bytes,
                            static_cast<double>(step.high) / unit.bytes);
    }
    chains += "\n\n";
    Nanos from = steps[longest].from, to = steps[longest_end].to, middle = from + (to - from) / 2;
    auto there = std::find_if(steps.begin(), steps.end(),
                              [&](const Step& step) { return middle < step.to; });
    bool room = 12 * (there->high - there->low) > most && 30 * (to - from) > range.to - range.from;
    if (room) {
      names += fmt::format("set label \"c{}\" at {},{} center front textcolor rgb \"{}\"\n", chain,
                           axis_time(middle),
                           static_cast<double>(there->low + there->high) / 2 / unit.bytes,
                           light_code(number % 2 == 0 ? "full-ink" : "dependent-ink"));
    }
    ++number;
  }
  Plot plot{"stored.gp", 900, 320, {}};
  put_range(plot, range);
  plot.values.insert(plot.values.end(),
                     {{"UNIT", unit.name},
                      {"MOST", fmt::format("{}", 1.1 * static_cast<double>(most) / unit.bytes)},
                      {"COUNT", std::to_string(curves.size())},
                      {"CHAINS", chains},
                      {"NAMES", names}});
  draftsman.draw(figure, plot);
  return figure;
}

Figure runs_figure(const JobFacts& facts, Draftsman& draftsman) {
  Figure figure;
  figure.name = facts.status.job + "-runs";
  figure.title = facts.status.job + ": bytes copied and time taken by each run";
  figure.csv = csv_line({"run", "started", "outcome", "set", "kind", "copied_bytes", "stored_bytes",
                         "seconds", "warnings", "reason"});
  std::string rows[2], failed;
  std::uint64_t least = ~std::uint64_t{0}, most = 0, total = 0, count = 0, failures = 0;
  double least_seconds = 1e9, most_seconds = 0;
  Nanos first = 0;
  for (const PastRun& run : facts.runs) {
    figure.csv +=
        csv_line({run.run, time_text(run.started), run.outcome, run.set ? run.set->to_string() : "",
                  run.kind ? kind_name(*run.kind) : "", std::to_string(run.copied),
                  std::to_string(run.stored), fmt::format("{:.1f}", run.seconds),
                  std::to_string(run.warning_count), printable(run.reason)});
    if (run.outcome == "skipped") continue;
    if (first == 0) first = run.started;
    if (!run.set) {
      ++failures;
      failed += fmt::format("{}\n", axis_time(run.started));
      continue;
    }
    std::uint64_t shown = std::max<std::uint64_t>(run.copied, 1000);
    double seconds = std::max(run.seconds, 0.05);
    rows[run.kind == SetKind::kFull] +=
        fmt::format("{} {} {}\n", axis_time(run.started), shown, seconds);
    least = std::min(least, shown);
    most = std::max(most, shown);
    least_seconds = std::min(least_seconds, seconds);
    most_seconds = std::max(most_seconds, seconds);
    total += run.copied;
    ++count;
  }
  if (first == 0) {
    figure.summary = "no run yet";
    return figure;
  }
  if (count == 0) least = 1000, most = 1'000'000, least_seconds = 1, most_seconds = 60;
  figure.summary = fmt::format("{} copied {}", counted(count, "run"), format_size(total));
  if (failures > 0) figure.summary += "; " + counted(failures, "run") + " made no set";
  Plot plot{"runs.gp", 900, 460, {}};
  TimeRange range = widened(first, facts.now);
  put_range(plot, range);
  std::string bare = day_tics(range.from, range.to);
  // The same places without their names.
  for (std::size_t at = 0; (at = bare.find('"', at)) != std::string::npos;) {
    std::size_t end = bare.find('"', at + 1);
    bare.erase(at + 1, end - at - 1);
    at += 2;
  }
  auto low = static_cast<double>(least), high = static_cast<double>(most);
  plot.values.insert(plot.values.end(),
                     {{"BARE_TICS", bare},
                      {"FULL_RUNS", or_no_data(rows[1])},
                      {"DEPENDENT_RUNS", or_no_data(rows[0])},
                      {"FAILED_RUNS", or_no_data(failed)},
                      {"LEAST", fmt::format("{}", low / 3)},
                      {"MOST", fmt::format("{}", high * 3)},
                      {"SIZE_TICS", size_tics(low / 3, high * 3)},
                      {"LEAST_SECONDS", fmt::format("{}", std::min(0.1, least_seconds / 2))},
                      {"MOST_SECONDS", fmt::format("{}", std::max(10.0, most_seconds * 2))},
                      {"TIME_TICS", time_tics()}});
  draftsman.draw(figure, plot);
  return figure;
}

Figure room_figure(const JobFacts& facts, const DiskFacts& disk, const std::string& name,
                   Draftsman& draftsman) {
  Figure figure;
  figure.name = name;
  figure.title = fmt::format("{}: room on {}", facts.status.job, disk.disk);
  figure.csv = csv_line({"when", "free_bytes", "least", "most", "seen"});
  std::uint64_t most = 0;
  for (const RoomSeen& seen : disk.room) {
    most = std::max(most, seen.free);
    figure.csv += csv_line({time_text(seen.when), std::to_string(seen.free), "", "", "yes"});
  }
  if (disk.room.empty()) {
    figure.summary = "its room was not seen yet";
    return figure;
  }
  if (disk.ahead) {
    for (std::int64_t bytes : disk.ahead->most) {
      most = std::max(most, static_cast<std::uint64_t>(std::max<std::int64_t>(bytes, 0)));
    }
  }
  AxisUnit unit = unit_for(static_cast<double>(most));
  std::string ahead, full;
  Nanos last = facts.now;
  if (disk.ahead) {
    const RoomAhead& to_come = *disk.ahead;
    auto shown = [](std::int64_t bytes) { return std::max<std::int64_t>(bytes, 0); };
    auto at = [&](std::int64_t bytes) { return static_cast<double>(shown(bytes)) / unit.bytes; };
    ahead += fmt::format("{0} {1} {1} {1}\n", axis_time(facts.now),
                         static_cast<double>(disk.room.back().free) / unit.bytes);
    for (std::size_t i = 0; i < to_come.runs.size(); ++i) {
      figure.csv += csv_line({time_text(to_come.runs[i]), std::to_string(shown(to_come.middle[i])),
                              std::to_string(shown(to_come.least[i])),
                              std::to_string(shown(to_come.most[i])), "no"});
      if (i > 0) {
        ahead += fmt::format("{} {} {} {}\n", axis_time(to_come.runs[i]), at(to_come.least[i]),
                             at(to_come.middle[i]), at(to_come.most[i]));
      }
      last = to_come.runs[i];
      if (to_come.middle[i] <= 0) break;
    }
    if (to_come.full_at && *to_come.full_at <= last) {
      full = fmt::format(
          "set label \"full\" at {0},0 right offset -1,0.8 textcolor rgb \"{1}\" point pointtype 2 "
          "pointsize 1.3 linewidth 3 linecolor rgb \"{1}\"\n",
          axis_time(*to_come.full_at), light_code("trouble"));
    }
  }
  figure.summary =
      fmt::format("{} free; {}", format_size(disk.room.back().free), room_in_words(disk));
  std::string past;
  for (const RoomSeen& seen : disk.room) {
    past +=
        fmt::format("{} {}\n", axis_time(seen.when), static_cast<double>(seen.free) / unit.bytes);
  }
  Plot plot{"room.gp", 900, 350, {}};
  put_range(plot, widened(disk.room.front().when, last));
  plot.values.insert(plot.values.end(),
                     {{"UNIT", unit.name},
                      {"MOST", fmt::format("{}", 1.15 * static_cast<double>(most) / unit.bytes)},
                      {"NOW", std::to_string(axis_time(facts.now))},
                      {"PAST", past},
                      {"AHEAD", or_no_data(ahead)},
                      {"FULL_AT", full}});
  draftsman.draw(figure, plot);
  return figure;
}

}  // namespace kestrum
