#include "kestrum/chain/trend.h"

#include <gtest/gtest.h>

#include <random>

namespace kestrum {
namespace {

constexpr Nanos kTrendStart = 20'000 * kDay;

// A full set, and then one a day of these sizes.
std::vector<PastSet> days(const std::vector<std::uint64_t>& stored, std::uint64_t seen = 1'000'000,
                          std::int64_t grows = 0) {
  std::vector<PastSet> past = {{kTrendStart, SetKind::kFull, 0, seen, seen, seen / 2}};
  for (std::size_t i = 0; i < stored.size(); ++i) {
    seen += static_cast<std::uint64_t>(grows);
    past.push_back({kTrendStart + static_cast<Nanos>(i + 1) * kDay, SetKind::kIncremental, 0, seen,
                    stored[i] * 2, stored[i]});
  }
  return past;
}

TEST(Trend, KnowsNothingOfDependentsFromAFullSet) {
  Trend trend = trend_of(days({}));
  EXPECT_FALSE(trend.dependent_known);
  EXPECT_FALSE(trend.growth_known);
  EXPECT_DOUBLE_EQ(trend.full_ratio, 0.5);
  EXPECT_FALSE(trend_of({}).dependent_known);
}

TEST(Trend, OfDaysThatAreAlikeIsTheirMean) {
  std::mt19937 random(3);
  std::vector<std::uint64_t> sizes;
  for (int i = 0; i < 25; ++i) sizes.push_back(90 + random() % 21);
  Trend trend = trend_of(days(sizes, 1'000'000, 500));
  EXPECT_NEAR(trend.dependent.value, 100, 5);
  EXPECT_LT(trend.dependent.error, 15);
  EXPECT_EQ(trend.dependent_growth, 0);
  EXPECT_NEAR(trend.seen_growth.value, 500, 1);
  EXPECT_DOUBLE_EQ(trend.new_ratio, 0.5);
}

TEST(Trend, ForgetsWhatWasBeforeAChangeOfLevel) {
  Trend trend = trend_of(days({10, 12, 11, 9, 10, 11, 600, 640, 590}));
  EXPECT_NEAR(trend.dependent.value, 610, 15);
  // Two days are no new level yet, but they count most.
  trend = trend_of(days({10, 12, 11, 9, 10, 11, 600, 640}));
  EXPECT_GT(trend.dependent.value, 100);
  EXPECT_LT(trend.dependent.value, 300);
}

TEST(Trend, OfASetThatGrowsEachDayIsALine) {
  std::vector<std::uint64_t> sizes;
  for (int i = 1; i <= 12; ++i) sizes.push_back(static_cast<std::uint64_t>(100 * i));
  Trend trend = trend_of(days(sizes));
  EXPECT_NEAR(trend.dependent_growth, 100, 1);
  EXPECT_NEAR(trend.dependent.value, 1300, 5) << "the next one";
}

TEST(Trend, OneLargeDayIsNone) {
  std::vector<PastSet> past = days({10, 10, 10, 10, 10, 10, 10, 10}, 1'000'000, 100);
  for (std::size_t i = 5; i < past.size(); ++i) past[i].seen += 50'000'000;  // came at once
  EXPECT_NEAR(trend_of(past).seen_growth.value, 100, 1);
  // Of a week each, Fridays belong to it.
  past = days(std::vector<std::uint64_t>(21, 10), 1'000'000, 0);
  for (std::size_t i = 0; i < past.size(); ++i) past[i].seen += 7000 * (i / 7);
  EXPECT_NEAR(trend_of(past).seen_growth.value, 1000, 300);
}

TEST(Trend, OfDifferentialsIsForEachLink) {
  std::vector<PastSet> past = {{kTrendStart, SetKind::kFull, 0, 1000, 1000, 500}};
  for (unsigned link = 1; link <= 6; ++link) {
    past.push_back(
        {kTrendStart + link * kDay, SetKind::kDifferential, link, 1000, link * 200, link * 100});
  }
  Trend trend = trend_of(past);
  EXPECT_NEAR(trend.dependent.value, 100, 1);
  EXPECT_EQ(trend.dependent_growth, 0);
}

}  // namespace
}  // namespace kestrum
