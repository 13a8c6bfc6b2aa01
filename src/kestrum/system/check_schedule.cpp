#include "kestrum/system/check_schedule.h"

#include <algorithm>

namespace kestrum {
namespace {

// The check's next time, if it comes before the job's next run.
std::optional<Nanos> next_before_run(const DueCheck& check, const MachineState& machine,
                                     const Zone& zone, Nanos now) {
  auto next = Timetable(phrases_of(check.job, check.kind), zone).next_after(now);
  auto run = timetable_of(check.job, machine, zone).next_after(now);
  return next && run && *next <= *run ? next : std::nullopt;
}

}  // namespace

const char* check_name(CheckKind kind) {
  return kind == CheckKind::kVerify ? "verify" : kind == CheckKind::kDrill ? "drill" : "copy";
}

const std::vector<Phrase>& phrases_of(const Job& job, CheckKind kind) {
  return kind == CheckKind::kVerify  ? job.checks.verify_when
         : kind == CheckKind::kDrill ? job.checks.drill_when
                                     : job.copies.when;
}

std::vector<DueCheck> CheckSchedule::look(Nanos watching_since,
                                          const std::set<std::string>& ran) const {
  std::vector<DueCheck> due;
  Nanos now = clock_.now();
  for (const std::string& name : jobs_.names()) {
    DueCheck check;
    try {
      check.job = jobs_.load(name);
    } catch (const Error&) {
      continue;  // the look at its runs says so
    }
    for (CheckKind kind : kCheckKinds) {
      const std::vector<Phrase>& phrases = phrases_of(check.job, kind);
      if (phrases.empty()) continue;
      Timetable times(phrases, zone_);
      DueInput input;
      input.when = phrases_text(phrases);
      input.now = now;
      input.watching_since = watching_since;
      DueDecision decision;
      std::string key = check_key(name, check_name(kind));
      ScheduleState state = book_.update(key, [&](ScheduleState& remembered) {
        input.state = remembered;
        decision = decide_due(input, times);
        remembered = decision.state;
        bool done_ahead = remembered.last_attempt != 0 && remembered.last_attempt <= now &&
                          remembered.pending && remembered.pending->last <= remembered.ahead;
        if (!done_ahead) return;
        remembered.pending.reset();
        decision.run = false;
      });
      check.kind = kind;
      bool early =
          ran.contains(name) && state.ahead <= now && next_before_run(check, machine_, zone_, now);
      if (decision.run || early) due.push_back(check);
    }
  }
  return due;
}

void CheckSchedule::ended(const DueCheck& check, RunEnd end, const std::string& reason) const {
  Nanos now = clock_.now();
  book_.update(check_key(check.job.name, check_name(check.kind)), [&](ScheduleState& state) {
    state = after_run(state, end, now, now, reason);
    if (end != RunEnd::kDone) return;
    // One that came early stands for the time that it came before.
    state.last_attempt = now;
    state.ahead = next_before_run(check, machine_, zone_, now).value_or(0);
  });
}

}  // namespace kestrum
