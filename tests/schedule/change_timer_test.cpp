#include "kestrum/schedule/change_timer.h"

#include <gtest/gtest.h>

#include "kestrum/schedule/due.h"

namespace kestrum {
namespace {

constexpr Nanos kBegin = 1000 * kSecond;
constexpr Nanos kPause = 10 * kMinute;

TEST(ChangeTimers, NothingIsDueBeforeAnythingChanged) {
  EXPECT_FALSE(ChangeTimer(kPause).due());
}

TEST(ChangeTimers, AChangeIsDueOnceItIsQuiet) {
  ChangeTimer timer(kPause);
  timer.changed(kBegin);
  EXPECT_EQ(timer.due(), kBegin + kQuietAfterChange);
  timer.changed(kBegin + 3 * kSecond);
  EXPECT_EQ(timer.due(), kBegin + 3 * kSecond + kQuietAfterChange);
}

TEST(ChangeTimers, WhatNeverGetsQuietIsDueAfterThePause) {
  ChangeTimer timer(kPause);
  for (Nanos after = 0; after < kPause; after += kSecond) timer.changed(kBegin + after);
  EXPECT_EQ(timer.due(), kBegin + kPause);
  ChangeTimer hasty(0);
  for (Nanos after = 0; after < kMinute; after += kSecond) hasty.changed(kBegin + after);
  EXPECT_EQ(hasty.due(), kBegin + kMinute) << "but not more often than that";
}

TEST(ChangeTimers, RunsBeginAPauseApart) {
  ChangeTimer timer(kPause);
  timer.changed(kBegin);
  timer.began(kBegin + kQuietAfterChange);
  EXPECT_FALSE(timer.due());
  timer.ended(kBegin + kMinute, true);
  EXPECT_FALSE(timer.due());
  timer.changed(kBegin + 2 * kMinute);
  EXPECT_EQ(timer.due(), kBegin + kQuietAfterChange + kPause);
}

TEST(ChangeTimers, AFailureIsTriedAgainLaterEachTime) {
  ChangeTimer timer(kMinute);
  Nanos now = kBegin;
  timer.changed(now);
  for (unsigned failure = 1; failure <= 3; ++failure) {
    timer.began(now);
    timer.ended(now + kSecond, false);
    EXPECT_EQ(timer.due(), now + kSecond + pause_after(failure));
    now = *timer.due();
  }
  timer.began(now);
  timer.ended(now + kSecond, true);
  EXPECT_FALSE(timer.due());
}

TEST(ChangeTimers, WhatIsNotThereIsLookedForAgain) {
  ChangeTimer timer(kMinute);
  timer.changed(kBegin);
  Nanos due = *timer.due();
  timer.waits(due);
  EXPECT_EQ(timer.due(), due + kLookAgain);
}

TEST(ChangeTimers, TheFoldersAreComparedAtTheStartAndAPauseApartIfDeaf) {
  ChangeTimer timer(kPause);
  EXPECT_TRUE(timer.wants_look(kBegin, false));
  timer.looked(kBegin);
  EXPECT_FALSE(timer.wants_look(kBegin + 10 * kPause, false));
  EXPECT_FALSE(timer.wants_look(kBegin + kPause - 1, true));
  EXPECT_TRUE(timer.wants_look(kBegin + kPause, true));
}

}  // namespace
}  // namespace kestrum
