#include "kestrum/schedule/due.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/base/units.h"

namespace kestrum {
namespace {

constexpr Nanos kFirstPause = 10 * kMinute;
constexpr Nanos kLongestPause = 6 * kHour;
// A scheduled time is tried whatever the pause, if the last attempt is so long ago.
constexpr Nanos kLongAgo = kHour;
// A job that was written longer ago than this was copied from somewhere.
constexpr Nanos kWrittenLately = 7 * kDay;
// What is remembered from further ahead than this was written by a clock that was wrong.
constexpr Nanos kClockSlack = 2 * kHour;

std::string times_in_words(const PendingTime& times) {
  if (times.count == 1) return format_local(times.last);
  std::string count = times.count >= kCountLimit ? fmt::format("{} or more", kCountLimit)
                                                 : std::to_string(times.count);
  return fmt::format("{} times from {} to {}", count, format_local(times.first),
                     format_local(times.last));
}

void let_go(DueDecision& decision, const PendingTime& times, const std::string& why) {
  decision.let_go.push_back("missed " + times_in_words(times) + ": " + why);
}

bool forget_future(ScheduleState& state, Nanos now) {
  Nanos latest = now + kClockSlack;
  bool wrong = state.settled > latest || state.last_attempt > latest ||
               state.waiting_since > latest || (state.pending && state.pending->last > latest);
  if (!wrong) return false;
  state.settled = std::min(state.settled, now);
  if (state.last_attempt > now) state.last_attempt = 0, state.failures = 0;
  if (state.waiting_since > now) state.waiting_since = now;
  if (state.pending && state.pending->last > now) state.pending.reset();
  return true;
}

// Moves what fell due since the last look into `pending`, or lets it go.
void collect(const DueInput& input, const Timetable& timetable, DueDecision& decision) {
  ScheduleState& state = decision.state;
  auto last = timetable.last_until(input.now);
  if (!last || *last <= state.settled) return;
  PendingTime fresh{timetable.next_after(state.settled).value_or(*last), *last,
                    timetable.count(state.settled, *last, kCountLimit)};
  state.settled = *last;
  bool in_time = input.now - *last <= kGrace || *last >= input.watching_since;
  if (input.skip_missed) {
    if (state.pending) {
      let_go(decision, *state.pending,
             state.waiting_for.empty() ? "the run did not succeed" : state.waiting_for);
      state.pending.reset();
      state.waiting_since = 0;
      state.waiting_for.clear();
      state.failures = 0;
    }
    if (!in_time) return let_go(decision, fresh, "this PC was off or asleep");
    if (fresh.count > 1) {
      let_go(decision, {fresh.first, fresh.last, fresh.count - 1}, "this PC was off or asleep");
    }
    fresh = {*last, *last, 1};
  }
  if (state.pending) {
    state.pending->last = fresh.last;
    state.pending->count = std::min(kCountLimit, state.pending->count + fresh.count);
  } else {
    state.pending = fresh;
  }
}

}  // namespace

Nanos pause_after(unsigned failures) {
  Nanos pause = kFirstPause;
  for (unsigned i = 1; i < failures && pause < kLongestPause; ++i) pause *= 2;
  return std::min(pause, kLongestPause);
}

DueDecision decide_due(const DueInput& input, const Timetable& timetable) {
  DueDecision decision;
  decision.state = input.state;
  ScheduleState& state = decision.state;
  Nanos now = input.now;

  if (forget_future(state, now)) {
    decision.notes.push_back("the clock was set back; times are counted from now on");
  }
  if (state.paused && state.paused_until != 0 && now >= state.paused_until) {
    state.settled = std::max(state.settled, state.paused_until);
    state.paused = false;
    state.paused_until = 0;
  }
  if (state.paused) {
    state.settled = std::max(state.settled, now);
    state.pending.reset();
    state.waiting_since = 0;
    state.waiting_for.clear();
    return decision;
  }
  // New phrases hold from when they were written, which may be a while before the first look at
  // them; what an earlier schedule still owes stays.
  if (state.settled == 0 || (state.when != input.when && !state.pending)) {
    bool lately = input.written <= now && now - input.written < kWrittenLately;
    state.settled = std::max(state.settled, lately ? input.written : now);
  }
  state.when = input.when;
  if (input.when.empty()) {
    state.pending.reset();
    state.waiting_since = 0;
    state.waiting_for.clear();
    return decision;
  }

  collect(input, timetable, decision);
  bool over = state.pending && now - state.pending->last > kGrace;
  if (input.skip_missed && over && state.waiting_since != 0) {
    let_go(decision, *state.pending, state.waiting_for);
    state.pending.reset();
    state.waiting_since = 0;
    state.waiting_for.clear();
  }
  if (!state.pending) return decision;

  if (state.failures > 0) {
    Nanos again = state.last_attempt + pause_after(state.failures);
    if (now < again && state.pending->last < state.last_attempt + kLongAgo) {
      decision.try_again = again;
      return decision;
    }
  }
  if (state.waiting_since != 0 && now < state.last_attempt + input.waiting_pause) {
    decision.try_again = state.last_attempt + input.waiting_pause;
    return decision;
  }
  decision.run = true;
  const PendingTime& times = *state.pending;
  bool late = now - times.last > kGrace || times.count > 1;
  decision.why =
      late ? "makes up for " + times_in_words(times) : "scheduled for " + format_local(times.last);
  if (state.failures > 0) {
    decision.why = fmt::format("tried again after {}", counted(state.failures, "failure"));
  }
  return decision;
}

ScheduleState after_run(ScheduleState state, RunEnd end, Nanos started, Nanos now,
                        const std::string& reason) {
  auto settle = [&] {
    state.pending.reset();
    state.failures = 0;
    state.last_attempt = 0;
    state.waiting_since = 0;
    state.waiting_for.clear();
  };
  switch (end) {
    case RunEnd::kDone:
      settle();
      state.settled = std::max(state.settled, started);
      break;
    case RunEnd::kStoppedByUser:
      settle();
      break;
    case RunEnd::kFailed:
      ++state.failures;
      state.last_attempt = now;
      state.waiting_since = 0;
      state.waiting_for.clear();
      break;
    case RunEnd::kWaiting:
      if (state.waiting_since == 0) state.waiting_since = now;
      state.waiting_for = reason;
      state.last_attempt = now;
      break;
    case RunEnd::kStopped:
    case RunEnd::kBusy:
      break;
  }
  return state;
}

}  // namespace kestrum
