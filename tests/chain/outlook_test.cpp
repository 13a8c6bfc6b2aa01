#include "kestrum/chain/outlook.h"

#include <gtest/gtest.h>

namespace kestrum {
namespace {

constexpr Nanos kStart = 20'000 * kDay + 21 * kHour;

OutlookInput daily(SetKind kind, const char* new_full, Nanos keep_for, unsigned chains = 1) {
  OutlookInput input;
  input.follows_full = kind;
  input.new_full = *NewFullRule::parse(new_full);
  input.keep.policy.keep_for = keep_for;
  input.keep.policy.chains = chains;
  for (int day = 0; day < 120; ++day) input.runs.push_back(kStart + day * kDay);
  input.full_bytes = 1000;
  input.dependent_bytes = 10;
  return input;
}

TEST(Outlook, CountsTheFullSetsThatMustFitAtOnce) {
  Outlook two_weeks = look_ahead(daily(SetKind::kIncremental, "after 13 incrementals", 14 * kDay));
  EXPECT_EQ(two_weeks.fulls_at_once, 3u) << "two weeks back, and one being written";
  EXPECT_EQ(two_weeks.dependents, 13u);
  EXPECT_EQ(two_weeks.full_interval, 14 * kDay);
  EXPECT_EQ(two_weeks.peak, 3 * 1000u + 2 * 13 * 10);
  EXPECT_EQ(
      look_ahead(daily(SetKind::kIncremental, "after 6 incrementals", 2 * kDay)).fulls_at_once, 2u);
  EXPECT_EQ(look_ahead(daily(SetKind::kFull, "never", 4 * kDay)).fulls_at_once, 6u);
  EXPECT_EQ(look_ahead(daily(SetKind::kIncremental, "after 6 incrementals", 0, 3)).fulls_at_once,
            4u);
}

TEST(Outlook, DifferentialSetsGrow) {
  Outlook plan = look_ahead(daily(SetKind::kDifferential, "after 3 differentials", 0));
  EXPECT_EQ(plan.peak, 2 * 1000u + 10 + 20 + 30) << "the old chain and the new full set";
}

TEST(Outlook, SaysHowManyRunsFit) {
  OutlookInput input = daily(SetKind::kFull, "never", 30 * kDay);
  input.free_bytes = 5500;
  EXPECT_EQ(look_ahead(input).runs_that_fit, 5u);
  input.free_bytes = 100'000;
  EXPECT_FALSE(look_ahead(input).runs_that_fit);
  // Nothing goes by itself: beyond the runs looked at by what they grow.
  input.prunes = false;
  input.free_bytes = 200'500;
  EXPECT_EQ(look_ahead(input).runs_that_fit, 200u);
}

TEST(Outlook, PrunesBeforeARunThatWouldNotFit) {
  OutlookInput input = daily(SetKind::kFull, "never", 2 * kDay);
  for (std::uint32_t chain = 1; chain <= 3; ++chain) {
    KeepFacts set;
    set.id = {chain, 0};
    set.taken = kStart - 20 * kDay + chain * kDay;
    set.stored = 1000;
    input.keep.sets.push_back(set);
  }
  input.highest_chain = 3;
  input.free_bytes = 2500;
  Outlook plan = look_ahead(input);
  EXPECT_FALSE(plan.runs_that_fit) << "the old ones go first when there is need";
  EXPECT_EQ(plan.most_held, 4000u);
  EXPECT_EQ(plan.next_prunes, (std::vector<SetId>{{1, 0}, {2, 0}, {3, 0}}));
}

TEST(Outlook, ASuspectSetHoldsEverything) {
  OutlookInput input = daily(SetKind::kFull, "never", 0);
  KeepFacts set;
  set.id = {1, 0};
  set.taken = kStart - kDay;
  set.suspect = true;
  input.keep.sets.push_back(set);
  EXPECT_EQ(look_ahead(input).fulls_at_once, 121u);
}

}  // namespace
}  // namespace kestrum
