#include "kestrum/inspect/job_outlook.h"

#include <algorithm>
#include <limits>

#include "kestrum/backup/prune.h"
#include "kestrum/base/units.h"
#include "kestrum/chain/trend.h"
#include "kestrum/machine/run_records.h"
#include "kestrum/machine/schedule_book.h"

namespace kestrum {
namespace {

constexpr std::size_t kMostRuns = 3000;
constexpr Nanos kBeyondPromise = 120 * kDay;
constexpr Nanos kFurthest = 12 * 365 * kDay;
// What a set that depends on another takes of a full one, where no past set tells.
constexpr std::uint64_t kDependentShare = 20;
constexpr double kLeastInterval = 1.0 / 24;  // days

// What is remembered of the job's runs; of sets that are older than that, or that another PC made,
// what the shelf says.
std::vector<PastSet> known_past(const RunRecords& records, const OpenShelf* open) {
  std::vector<PastSet> past = past_sets(records);
  if (open == nullptr) return past;
  Nanos first = past.empty() ? std::numeric_limits<Nanos>::max() : past.front().taken;
  std::vector<PastSet> older;
  for (const ShelfSet& set : open->shelf.sets()) {
    if (!set.sealed() || set.seal.started >= first) continue;
    older.push_back({set.seal.started, set.seal.kind, set.id.link, 0, set.seal.totals.copied,
                     set.seal.totals.stored});
  }
  past.insert(past.begin(), older.begin(), older.end());
  return past;
}

// From one run to the next, in days.
double interval_of(const std::vector<Nanos>& runs) {
  if (runs.size() < 2) return 1;
  return static_cast<double>(runs.back() - runs.front()) / kDay /
         static_cast<double>(runs.size() - 1);
}

// Before any set followed a full one: by what was changed in the days before now.
Spread guess_of_dependents(const PlannedRun& planned, double interval) {
  const RecentBytes& recent = planned.changes->recent;
  if (!recent.known) {
    double guess = static_cast<double>(planned.estimate.stored) / kDependentShare;
    return {guess, guess};
  }
  double guess = static_cast<double>(recent.a_day()) * std::max(interval, kLeastInterval) *
                 planned.estimate.fresh_ratio;
  return {guess, std::max(guess / 2, 1.0)};
}

// Bytes stored for each byte that the files grow by: new files bring what a sample of them says,
// what they do not bring is brought by files that are changed.
double ratio_of_growth(const PlannedRun& planned, const Trend& trend, double interval) {
  double fresh = static_cast<double>(planned.changes->fresh_bytes);
  double grown = trend.seen_growth.value * interval;
  if (fresh <= 0 || grown <= 0) return trend.new_ratio;
  double share = std::min(1.0, fresh / grown);
  return share * planned.estimate.fresh_ratio + (1 - share) * trend.new_ratio;
}

OutlookAtRate at_rate(Outlook outlook, const std::vector<Nanos>& runs) {
  OutlookAtRate at{std::move(outlook), {}, {}};
  auto time_of = [&](std::size_t run) {
    if (run < runs.size()) return runs[run];
    return runs.back() + static_cast<Nanos>(static_cast<double>(run - runs.size() + 1) *
                                            interval_of(runs) * kDay);
  };
  if (runs.empty()) return at;
  if (at.outlook.runs_that_fit) at.full_at = time_of(*at.outlook.runs_that_fit);
  if (at.outlook.runs_within_wish) at.above_wish_at = time_of(*at.outlook.runs_within_wish);
  return at;
}

}  // namespace

OutlookInput plan_of(const MachineState& machine, const Job& job, Nanos now) {
  OutlookInput input;
  input.keep.policy = job.keep;
  input.prunes = prunes_by_itself(job.when_full);
  input.follows_full = job.follows_full;
  input.new_full = job.new_full;
  Timetable times = timetable_of(job, machine, Zone::local());
  Nanos end = now + std::min(kFurthest, job.keep.keep_for + kBeyondPromise);
  for (Nanos at = now; at < end && input.runs.size() < kMostRuns;) {
    input.runs.push_back(at);
    if (!times.timed()) {
      at += kDay;
      continue;
    }
    auto next = times.next_after(at);
    if (!next) break;
    at = *next;
  }
  return input;
}

Outlook bare_outlook(const MachineState& machine, const Job& job, Nanos now) {
  return look_ahead(plan_of(machine, job, now));
}

JobOutlook job_outlook(const MachineState& machine, const Job& job, const OpenShelf* open,
                       Index* index, const PlannedRun& planned) {
  Nanos now = planned.now;
  OutlookInput input = plan_of(machine, job, now);
  if (planned.until) std::erase_if(input.runs, [&](Nanos at) { return at > *planned.until; });
  if (open != nullptr) {
    input.keep = keep_input(*open, index, job, now, usual_interval(machine, job, now));
    input.highest_chain = open->state->record.newest.highest_chain;
  }
  std::vector<PastSet> past = known_past(RunRecords(machine, job.name), open);
  std::size_t runs = past.size();
  std::optional<PastSet> full;
  for (const PastSet& set : past) {
    if (set.kind == SetKind::kFull) full = set;
  }
  // The run that comes is the latest that is known of.
  past.push_back({now, planned.next.kind, planned.next.id.link, planned.changes->bytes.seen,
                  planned.changes->bytes.copied, planned.estimate.stored});
  Trend trend = trend_of(past);
  double interval = interval_of(input.runs);
  JobOutlook result;
  if (!trend.dependent_known) {
    trend.dependent = guess_of_dependents(planned, interval);
    result.from = planned.changes->recent.known ? "what was changed here of late" : "nothing known";
  } else {
    result.from = runs == 0 ? "this run alone" : counted(runs, "past run");
  }
  double ratio = trend.growth_ratio.value_or(ratio_of_growth(planned, trend, interval));
  Spread growth = {trend.seen_growth.value * ratio, trend.seen_growth.error * ratio};
  // What comes may be new altogether, as long as nobody has seen whether it is.
  if (!trend.growth_known)
    growth.error = trend.dependent.value / std::max(interval, kLeastInterval);
  double full_bytes = static_cast<double>(planned.estimate.stored);
  if (planned.next.kind != SetKind::kFull && full) {
    double grown =
        static_cast<double>(planned.changes->bytes.seen) - static_cast<double>(full->seen);
    if (full->seen == 0) grown = 0;
    full_bytes = static_cast<double>(full->stored) + grown * (grown > 0 ? ratio : trend.full_ratio);
  }
  input.next = planned.next;
  input.next_bytes = planned.bytes;
  input.free_bytes = planned.free_bytes;
  input.at_most = job.at_most;
  input.dependent_growth = trend.dependent_growth;
  auto look = [&](double sign) {
    OutlookInput at = input;
    at.full_bytes = static_cast<std::uint64_t>(std::max(0.0, full_bytes));
    at.full_growth = growth.value + sign * growth.error;
    at.dependent_bytes = static_cast<std::uint64_t>(
        std::max(0.0, trend.dependent.value + sign * trend.dependent.error));
    return at_rate(look_ahead(at), at.runs);
  };
  result.middle = look(0);
  result.slow = look(-1);
  result.fast = look(1);
  result.full_bytes = static_cast<std::uint64_t>(std::max(0.0, full_bytes));
  result.dependent_bytes = static_cast<std::uint64_t>(trend.dependent.value);
  result.seen_growth = trend.growth_known ? trend.seen_growth.value : 0;
  result.runs = input.runs;
  result.last_run = input.runs.empty() ? now : input.runs.back();
  return result;
}

}  // namespace kestrum
