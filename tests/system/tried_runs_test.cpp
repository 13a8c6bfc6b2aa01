// For which runs a check that goes on for hours gives way.
#include "kestrum/system/tried_runs.h"

#include <gtest/gtest.h>

namespace kestrum::test {
namespace {

DueJob due_at(const std::string& job, Nanos time) {
  DueJob due;
  due.job.name = job;
  due.due = time;
  return due;
}

TEST(TriedRuns, OneThatFailedIsNotTriedAgainForTheSameTime) {
  TriedRuns tried;
  EXPECT_FALSE(tried.has("desk"));
  EXPECT_TRUE(tried.is_new(due_at("desk", 10 * kHour)));
  tried.began(due_at("desk", 10 * kHour));
  EXPECT_TRUE(tried.has("desk"));
  EXPECT_FALSE(tried.is_new(due_at("desk", 10 * kHour)));
  EXPECT_TRUE(tried.is_new(due_at("other", 10 * kHour)));
}

// The hourly run of a job whose shelf takes three hours to verify.
TEST(TriedRuns, TheNextTimeOfTheSameJobIsAnother) {
  TriedRuns tried;
  tried.began(due_at("desk", 10 * kHour));
  EXPECT_TRUE(tried.is_new(due_at("desk", 11 * kHour)));
  EXPECT_TRUE(tried.has("desk")) << "but not before a new look begins";
  tried.clear();
  EXPECT_FALSE(tried.has("desk"));
}

// Its disk may be plugged in while the shelf of another job is verified.
TEST(TriedRuns, OneThatWaitedIsNew) {
  TriedRuns tried;
  tried.waits(due_at("desk", 10 * kHour));
  EXPECT_TRUE(tried.has("desk"));
  EXPECT_TRUE(tried.is_new(due_at("desk", 10 * kHour)));
  tried.began(due_at("desk", 10 * kHour));
  EXPECT_FALSE(tried.is_new(due_at("desk", 10 * kHour)));
}

}  // namespace
}  // namespace kestrum::test
