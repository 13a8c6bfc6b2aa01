// Whether a job runs now: pure decisions over what is remembered of its schedule.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/schedule/timetable.h"

namespace kestrum {

// A time that has come and was not run yet; it stands for all since the last run.
struct PendingTime {
  Nanos first = 0, last = 0;
  std::uint64_t count = 0;  // at most kCountLimit
};
inline constexpr std::uint64_t kCountLimit = 1000;

// What is remembered between one look at a job and the next.
struct ScheduleState {
  Nanos settled = 0;  // every time up to here was run, is pending, or was let go; 0: never looked
  std::string when;   // the phrases that this is about
  std::optional<PendingTime> pending;
  Nanos waiting_since = 0;  // 0: waits for nothing
  std::string waiting_for;  // in words
  unsigned failures = 0;    // in a row
  Nanos last_attempt = 0;   // of a scheduled run that failed or waits
  bool paused = false;
  Nanos paused_until = 0;  // 0: until resumed
  Nanos ahead = 0;  // of a check: times up to here were done before they came, at last_attempt
};

struct DueInput {
  ScheduleState state;
  std::string when;          // the job's phrases in standard form
  bool skip_missed = false;  // if_missed = "skip"
  Nanos now = 0;
  Nanos waiting_pause = 0;   // between attempts of a run that waits
  Nanos written = 0;         // when the job was last written; 0: not known
  Nanos watching_since = 0;  // times from here on were not missed, whatever held the run up
};

struct DueDecision {
  bool run = false;
  ScheduleState state;
  std::string why;                  // of the run: "due at ...", for the record
  std::vector<std::string> let_go;  // times that are given up, in words, one record each
  std::vector<std::string> notes;   // such as a clock that was set back
  std::optional<Nanos> try_again;   // of a run that waits after a failure
};

// A time is missed only after this long: timers are coarse, and PCs wake slowly.
inline constexpr Nanos kGrace = 30 * kMinute;

DueDecision decide_due(const DueInput& input, const Timetable& timetable);

// How a run, scheduled or by hand, changes what is remembered.
enum class RunEnd {
  kDone,           // with or without warnings
  kFailed,         //
  kWaiting,        // the disk is away, or the PC is on battery: tried again at every look
  kStopped,        // in passing, such as at shutdown: made up for at the next chance
  kStoppedByUser,  // who does not want it now
  kBusy,           // the job was running already
};
ScheduleState after_run(ScheduleState state, RunEnd end, Nanos started, Nanos now,
                        const std::string& reason);

// The pause after so many failures in a row: 10 minutes, then twice as long each time, at most 6
// hours.
Nanos pause_after(unsigned failures);

}  // namespace kestrum
