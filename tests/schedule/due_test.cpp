#include "kestrum/schedule/due.h"

#include <gtest/gtest.h>

#include "kestrum/base/units.h"
#include "kestrum/schedule/phrase_parser.h"

namespace kestrum {
namespace {

Nanos time_at(const std::string& text) {
  return *parse_rfc3339(text);
}

// A job as the timer sees it: looked at from time to time, its runs taking as long as they do.
class Pc {
 public:
  explicit Pc(const std::string& phrase, bool skip = false)
      : phrase_(phrase), skip_(skip), table_({*parse_phrase(phrase)}, Zone::named("UTC")) {
    state_.settled = time_at("2026-03-01T12:00:00Z");
    state_.when = phrase;
  }
  DueDecision look(const std::string& now) { return look(time_at(now), time_at(now)); }
  DueDecision look(Nanos now, Nanos since) {
    DueInput input;
    input.state = state_;
    input.when = phrase_;
    input.skip_missed = skip_;
    input.now = now;
    input.watching_since = since;
    DueDecision decision = decide_due(input, table_);
    state_ = decision.state;
    return decision;
  }
  void end(RunEnd end, const std::string& now, const std::string& reason = "") {
    state_ = after_run(state_, end, time_at(now), time_at(now), reason);
  }
  ScheduleState state_;
  std::string phrase_;
  bool skip_;
  Timetable table_;
};

TEST(Due, RunsAtItsTimeAndOnce) {
  Pc pc("every day at 21:00");
  EXPECT_FALSE(pc.look("2026-03-01T20:55:00Z").run);
  DueDecision due = pc.look("2026-03-01T21:00:00Z");
  EXPECT_TRUE(due.run);
  EXPECT_TRUE(due.why.starts_with("scheduled for")) << due.why;
  pc.end(RunEnd::kDone, "2026-03-01T21:00:00Z");
  EXPECT_FALSE(pc.look("2026-03-01T21:05:00Z").run);
  EXPECT_TRUE(pc.look("2026-03-02T21:03:00Z").run);
}

TEST(Due, APcThatWasOffForAWeekMakesUpOnce) {
  Pc pc("every day at 21:00");
  DueDecision due = pc.look("2026-03-08T08:00:00Z");
  EXPECT_TRUE(due.run);
  EXPECT_TRUE(due.why.starts_with("makes up for 7 times")) << due.why;
  EXPECT_TRUE(due.let_go.empty());
  pc.end(RunEnd::kDone, "2026-03-08T08:00:00Z");
  EXPECT_FALSE(pc.look("2026-03-08T08:05:00Z").run);
}

TEST(Due, SkippedTimesAreLetGoAndSaid) {
  Pc pc("every day at 21:00", true);
  DueDecision due = pc.look("2026-03-08T08:00:00Z");
  EXPECT_FALSE(due.run);
  ASSERT_EQ(due.let_go.size(), 1u);
  EXPECT_TRUE(due.let_go[0].starts_with("missed 7 times")) << due.let_go[0];
  EXPECT_TRUE(pc.look("2026-03-08T21:00:00Z").run) << "the next time is in time";
}

TEST(Due, ATimeThatALongRunHeldUpWasNotMissed) {
  Pc pc("every day at 21:00", true);
  DueDecision due = pc.look(time_at("2026-03-01T23:00:00Z"), time_at("2026-03-01T20:00:00Z"));
  EXPECT_TRUE(due.run);
}

TEST(Due, ADiskThatIsAwayIsWaitedFor) {
  Pc pc("every day at 21:00");
  EXPECT_TRUE(pc.look("2026-03-01T21:00:00Z").run);
  pc.end(RunEnd::kWaiting, "2026-03-01T21:00:00Z", "not plugged in: blue-disk");
  EXPECT_TRUE(pc.look("2026-03-02T10:00:00Z").run) << "looked for at every look";
  pc.end(RunEnd::kWaiting, "2026-03-02T10:00:00Z", "not plugged in: blue-disk");
  EXPECT_EQ(pc.state_.waiting_since, time_at("2026-03-01T21:00:00Z"));
  DueDecision due = pc.look("2026-03-04T09:00:00Z");
  EXPECT_TRUE(due.why.starts_with("makes up for 3 times")) << due.why;
  pc.end(RunEnd::kDone, "2026-03-04T09:00:00Z");
  EXPECT_EQ(pc.state_.waiting_since, 0);
  EXPECT_FALSE(pc.look("2026-03-04T09:05:00Z").run);
}

TEST(Due, WithSkipADiskIsAwaitedOnlyForAWhile) {
  Pc pc("every day at 21:00", true);
  EXPECT_TRUE(pc.look("2026-03-01T21:00:00Z").run);
  pc.end(RunEnd::kWaiting, "2026-03-01T21:00:00Z", "not plugged in: blue-disk");
  EXPECT_TRUE(pc.look("2026-03-01T21:20:00Z").run);
  pc.end(RunEnd::kWaiting, "2026-03-01T21:20:00Z", "not plugged in: blue-disk");
  DueDecision late = pc.look("2026-03-01T21:40:00Z");
  EXPECT_FALSE(late.run);
  ASSERT_EQ(late.let_go.size(), 1u);
  EXPECT_NE(late.let_go[0].find("not plugged in"), std::string::npos);
  EXPECT_EQ(pc.state_.waiting_since, 0);
}

TEST(Due, AFailedRunIsTriedAgainAfterAPauseThatGrows) {
  Pc pc("every day at 21:00");
  Nanos now = time_at("2026-03-01T21:00:00Z");
  std::vector<Nanos> tries;
  for (; now < time_at("2026-03-02T20:59:00Z"); now += 5 * kMinute) {
    if (!pc.look(now, now).run) continue;
    tries.push_back(now);
    pc.end(RunEnd::kFailed, format_rfc3339(now));
  }
  ASSERT_GE(tries.size(), 5u);
  EXPECT_LE(tries.size(), 10u);
  EXPECT_EQ(tries[1] - tries[0], 10 * kMinute);
  for (std::size_t i = 2; i < tries.size(); ++i) {
    EXPECT_GE(tries[i] - tries[i - 1], tries[i - 1] - tries[i - 2]);
    EXPECT_LE(tries[i] - tries[i - 1], 6 * kHour + 5 * kMinute);
  }
  EXPECT_TRUE(pc.look("2026-03-02T21:00:00Z").run) << "its own time is tried whatever the pause";
}

TEST(Due, ARunLongerThanItsIntervalDoesNotPileUp) {
  Pc pc("every 30 minutes");
  EXPECT_TRUE(pc.look("2026-03-01T12:30:00Z").run);
  // It takes until 16:10; seven more times passed.
  pc.end(RunEnd::kDone, "2026-03-01T12:30:00Z");
  EXPECT_TRUE(pc.look("2026-03-01T16:10:00Z").run);
  pc.end(RunEnd::kDone, "2026-03-01T16:10:00Z");
  EXPECT_FALSE(pc.look("2026-03-01T16:15:00Z").run);
}

TEST(Due, AClockSetBackDoesNotStopTheSchedule) {
  Pc pc("every day at 21:00");
  EXPECT_TRUE(pc.look("2040-01-01T00:00:00Z").run) << "woke up in 2040: made up for once";
  pc.end(RunEnd::kDone, "2040-01-01T00:00:00Z");
  DueDecision back = pc.look("2026-03-01T13:00:00Z");
  EXPECT_FALSE(back.run);
  EXPECT_EQ(back.notes.size(), 1u);
  EXPECT_TRUE(pc.look("2026-03-01T21:00:00Z").run);
  // A clock that is corrected by minutes does not repeat a run.
  pc.end(RunEnd::kDone, "2026-03-01T21:00:00Z");
  EXPECT_FALSE(pc.look("2026-03-01T20:58:00Z").run);
  EXPECT_FALSE(pc.look("2026-03-01T21:01:00Z").run);
}

TEST(Due, APauseLetsItsTimesGoAndEndsByItself) {
  Pc pc("every day at 21:00");
  pc.state_.paused = true;
  pc.state_.paused_until = time_at("2026-03-05T00:00:00Z");
  EXPECT_FALSE(pc.look("2026-03-02T21:00:00Z").run);
  EXPECT_FALSE(pc.look("2026-03-05T08:00:00Z").run) << "nothing is made up for";
  EXPECT_FALSE(pc.state_.paused);
  EXPECT_TRUE(pc.look("2026-03-05T21:00:00Z").run);
}

TEST(Due, NewPhrasesHoldFromNowOn) {
  Pc pc("every day at 21:00");
  pc.state_.when = "every day at 09:00";
  EXPECT_FALSE(pc.look("2026-03-01T22:00:00Z").run);
  EXPECT_TRUE(pc.look("2026-03-02T21:00:00Z").run);
}

// Edited at 21:57 to 22:00, and the timer looks at 22:04.
TEST(Due, NewPhrasesHoldFromWhenTheyWereWritten) {
  Pc pc("every day at 21:00");
  EXPECT_TRUE(pc.look("2026-03-01T21:00:00Z").run);
  pc.end(RunEnd::kDone, "2026-03-01T21:10:00Z");
  DueInput input;
  input.state = pc.state_;
  input.when = "every day at 22:00";
  Timetable at_ten({*parse_phrase(input.when)}, Zone::named("UTC"));
  input.now = time_at("2026-03-01T22:04:00Z");
  for (auto [written, runs] : {std::pair{"2026-03-01T21:57:00Z", true},
                               {"2026-03-01T22:02:00Z", false},
                               {"2026-02-01T21:57:00Z", false},     // copied from somewhere
                               {"2026-03-02T21:57:00Z", false}}) {  // by a clock that was wrong
    input.written = time_at(written);
    EXPECT_EQ(decide_due(input, at_ten).run, runs) << written;
  }
}

TEST(Due, AJobNeverSeenStartsFromNow) {
  Pc pc("every day at 21:00");
  pc.state_ = {};
  EXPECT_FALSE(pc.look("2026-03-01T22:00:00Z").run);
}

TEST(Due, AStoppedRunIsLetGoIfTheUserStoppedIt) {
  Pc pc("every day at 21:00");
  EXPECT_TRUE(pc.look("2026-03-01T21:00:00Z").run);
  pc.end(RunEnd::kStopped, "2026-03-01T21:00:00Z");
  EXPECT_TRUE(pc.look("2026-03-01T21:05:00Z").run) << "a PC that was shut down goes on";
  pc.end(RunEnd::kStoppedByUser, "2026-03-01T21:05:00Z");
  EXPECT_FALSE(pc.look("2026-03-01T21:10:00Z").run);
}

TEST(Due, ACommandThatMayBringTheDiskIsNotRunAtEveryLook) {
  Pc pc("every day at 21:00");
  EXPECT_TRUE(pc.look("2026-03-01T21:00:00Z").run);
  pc.end(RunEnd::kWaiting, "2026-03-01T21:00:00Z", "away");
  DueInput input;
  input.state = pc.state_;
  input.when = pc.phrase_;
  input.now = input.watching_since = time_at("2026-03-01T21:05:00Z");
  input.waiting_pause = 30 * kMinute;
  EXPECT_FALSE(decide_due(input, pc.table_).run);
  input.now = time_at("2026-03-01T21:31:00Z");
  EXPECT_TRUE(decide_due(input, pc.table_).run);
}

}  // namespace
}  // namespace kestrum
