#include "kestrum/system/scheduler.h"

#include <sys/stat.h>

#include <algorithm>
#include <cstdlib>

#include "kestrum/access/find_shelf.h"
#include "kestrum/system/power.h"

namespace kestrum {
namespace {

// A job whose `before` may bring the disk is tried so often; its command is no small thing.
constexpr Nanos kPauseWithCommand = 30 * kMinute;

}  // namespace

ScheduleLook Scheduler::look(Nanos watching_since) const {
  ScheduleLook look;
  Nanos now = clock_.now();
  for (const auto& name : jobs_.names()) {
    DueJob due;
    try {
      due.job = jobs_.load(name);
    } catch (const Error& error) {
      look.unusable.push_back({name, error.message()});
      continue;
    }
    Timetable times = timetable(due.job);
    DueInput input;
    input.when = phrases_text(due.job);
    input.skip_missed = due.job.skip_missed;
    input.now = now;
    struct stat st {};
    if (::stat(jobs_.path(name).c_str(), &st) == 0)
      input.written = st.st_mtim.tv_sec * kSecond + st.st_mtim.tv_nsec;
    input.waiting_pause = due.job.before_run.text.empty() ? 0 : kPauseWithCommand;
    input.watching_since = watching_since;
    DueDecision decision;
    ScheduleState state = book_.update(name, [&](ScheduleState& remembered) {
      input.state = remembered;
      decision = decide_due(input, times);
      remembered = decision.state;
    });
    for (auto& text : decision.let_go) look.let_go.push_back({name, std::move(text)});
    for (auto& text : decision.notes) look.notes.push_back({name, std::move(text)});
    std::optional<Nanos> next = times.next_after(now);
    if (state.paused) {
      if (state.paused_until != 0) next = state.paused_until;
    } else if (times.when_files_change()) {
      look.when_files_change.push_back(due.job);
    }
    if (decision.try_again && (!next || *decision.try_again < *next)) next = decision.try_again;
    if (next && (!look.next || *next < *look.next)) look.next = next;
    if (!decision.run) continue;
    due.due = state.pending->last;
    due.why = decision.why;
    look.due.push_back(std::move(due));
  }
  std::stable_sort(look.due.begin(), look.due.end(),
                   [](const DueJob& a, const DueJob& b) { return a.due < b.due; });
  return look;
}

std::optional<std::string> Scheduler::waits_for(const Job& job) const {
  const char* supplies = std::getenv("KESTRUM_POWER_SUPPLIES");  // another folder than the system's
  if (job.wait_on_battery && on_battery(supplies != nullptr ? supplies : kPowerSupplies)) {
    return "this PC runs on its battery";
  }
  if (!job.before_run.text.empty()) return std::nullopt;  // which may mount the disk
  try {
    find_shelf_to_write(machine_, job);
  } catch (const Error& error) {
    if (error.worth_waiting()) return error.message();
  }
  return std::nullopt;
}

ScheduleState Scheduler::ended(const std::string& job, const RunReport& report,
                               bool by_hand) const {
  RunEnd end = report.outcome == Outcome::kDone || report.outcome == Outcome::kDoneWithWarnings
                   ? RunEnd::kDone
               : report.outcome == Outcome::kSkipped ? RunEnd::kBusy
               : report.outcome == Outcome::kStopped
                   ? (report.stopped_by_user ? RunEnd::kStoppedByUser : RunEnd::kStopped)
               : report.waits ? RunEnd::kWaiting
                              : RunEnd::kFailed;
  bool counts = !by_hand || end == RunEnd::kDone || end == RunEnd::kStoppedByUser;
  if (!counts) return book_.load(job);
  return book_.update(job, [&](ScheduleState& state) {
    state = after_run(state, end, report.started, clock_.now(), report.reason);
  });
}

bool Scheduler::waits(const std::string& job, const std::string& reason) const {
  bool first = false;
  book_.update(job, [&](ScheduleState& state) {
    first = state.waiting_since == 0;
    state = after_run(state, RunEnd::kWaiting, 0, clock_.now(), reason);
  });
  return first;
}

}  // namespace kestrum
