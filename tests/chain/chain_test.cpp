#include <gtest/gtest.h>

#include <cstdlib>
#include <ctime>

#include "kestrum/base/units.h"
#include "kestrum/chain/moment.h"
#include "kestrum/chain/next_kind.h"

namespace kestrum {
namespace {

Nanos at(const std::string& time) {
  return *parse_rfc3339(time);
}

TEST(SetIds, AreNamedAndRead) {
  EXPECT_EQ((SetId{3, 7}.to_string()), "c3-7");
  EXPECT_EQ(SetId::parse("c3-7"), (SetId{3, 7}));
  for (const char* wrong : {"", "c0-1", "c3", "3-7", "c3-7x", "c-1-2", "c99999999999-1"}) {
    EXPECT_FALSE(SetId::parse(wrong)) << wrong;
  }
  EXPECT_EQ(SetId::from_sequence(SetId{12, 345}.sequence()), (SetId{12, 345}));
  EXPECT_LT((SetId{2, 90}.sequence()), (SetId{3, 0}.sequence()));
}

TEST(SetFolders, AreNamedForPeopleAndReadBack) {
  EXPECT_EQ(set_folder_name({3, 7}, at("2026-03-02T21:05:09Z")), "c0003-007_2026-03-02_2105Z");
  auto folder = parse_set_folder("c0003-007_2026-03-02_2105Z.unfinished");
  ASSERT_TRUE(folder);
  EXPECT_EQ(folder->id, (SetId{3, 7}));
  EXPECT_EQ(folder->state, SetFolder::State::kUnfinished);
  EXPECT_FALSE(parse_set_folder("c0003-007"));
  EXPECT_FALSE(parse_set_folder("lost+found"));
  EXPECT_FALSE(parse_set_folder("c0003-007_2026-03-02_21:5Z"));
}

TEST(NewFullRules, AreUnderstood) {
  EXPECT_EQ(NewFullRule::parse("after 13 incrementals")->count, 13U);
  EXPECT_EQ(NewFullRule::parse("After 1 differential")->count, 1U);
  EXPECT_EQ(NewFullRule::parse("every sunday")->weekday, 0U);
  EXPECT_EQ(NewFullRule::parse("every 4 weeks")->count, 28U);
  EXPECT_EQ(NewFullRule::parse("first run of the month")->when, NewFullRule::When::kFirstOfMonth);
  for (const char* monthly : {"monthly", "every month", "First run of each month"}) {
    EXPECT_EQ(NewFullRule::parse(monthly)->when, NewFullRule::When::kFirstOfMonth) << monthly;
  }
  EXPECT_EQ(NewFullRule::parse("every two weeks")->count, 14U);
  EXPECT_EQ(NewFullRule::parse("weekly")->count, 7U);
  EXPECT_EQ(NewFullRule::parse("after thirteen sets"), std::nullopt);
  EXPECT_EQ(NewFullRule::parse("after six sets")->count, 6U);
  EXPECT_EQ(NewFullRule::parse("never")->when, NewFullRule::When::kNever);
  for (const char* wrong :
       {"", "after 0 incrementals", "after -1 incrementals", "sometimes", "every moon"}) {
    EXPECT_FALSE(NewFullRule::parse(wrong)) << wrong;
  }
}

class NextSets : public testing::Test {
 protected:
  void SetUp() override {
    ::setenv("TZ", "UTC", 1);
    ::tzset();
    input.now = at("2026-03-20T21:00:00Z");
  }
  void add(SetId id, SetKind kind, std::optional<SetId> base, const std::string& time,
           bool whole = true) {
    input.sets.push_back({id, kind, base, at(time), whole});
  }
  void chain_of(unsigned dependents) {
    add({1, 0}, SetKind::kFull, std::nullopt, "2026-03-02T21:00:00Z");
    for (unsigned i = 1; i <= dependents; ++i) {
      add({1, i}, SetKind::kIncremental, SetId{1, i - 1}, "2026-03-03T21:00:00Z");
    }
  }
  NextSetInput input;
};

TEST_F(NextSets, TheFirstIsFull) {
  NextSet next = next_set(input);
  EXPECT_EQ(next.id, (SetId{1, 0}));
  EXPECT_EQ(next.kind, SetKind::kFull);
}

TEST_F(NextSets, AnIncrementalIsBasedOnTheNewestADifferentialOnTheFull) {
  chain_of(3);
  EXPECT_EQ(next_set(input).based_on, (SetId{1, 3}));
  input.follows_full = SetKind::kDifferential;
  NextSet next = next_set(input);
  EXPECT_EQ(next.based_on, (SetId{1, 0}));
  EXPECT_EQ(next.id, (SetId{1, 4}));
}

TEST_F(NextSets, ANewFullComesWhenTheRuleSays) {
  chain_of(3);
  struct Case {
    const char* rule;
    const char* now;
    bool full;
  };
  for (const Case& c : std::vector<Case>{
           {"after 3 incrementals", "2026-03-04T21:00:00Z", true},
           {"after 4 incrementals", "2026-03-04T21:00:00Z", false},
           {"every 4 weeks", "2026-03-29T21:00:00Z", false},
           {"every 4 weeks", "2026-03-30T20:59:00Z", true},  // by the calendar day, not the minute
           {"every monday", "2026-03-02T23:00:00Z", false},  // 2026-03-02 is a Monday
           {"every monday", "2026-03-08T21:00:00Z", false},
           {"every monday", "2026-03-09T01:00:00Z", true},
           {"every monday", "2026-03-12T01:00:00Z", true},  // the PC was off on Monday
           {"first run of the month", "2026-03-31T21:00:00Z", false},
           {"first run of the month", "2026-04-01T00:10:00Z", true},
           {"never", "2030-01-01T00:00:00Z", false}}) {
    input.new_full = *NewFullRule::parse(c.rule);
    input.now = at(c.now);
    NextSet next = next_set(input);
    EXPECT_EQ(next.kind == SetKind::kFull, c.full) << c.rule << " " << c.now << ": " << next.why;
    EXPECT_FALSE(next.why.empty());
  }
}

TEST_F(NextSets, AFullThatIsDueWaitsForAFolderThatIsAwayUnlessAskedFor) {
  chain_of(13);
  input.rather_not_full = "/media/share is not there now";
  NextSet next = next_set(input);
  EXPECT_EQ(next.kind, SetKind::kIncremental);
  EXPECT_NE(next.why.find("waits"), std::string::npos);
  input.wanted = SetKind::kFull;
  EXPECT_EQ(next_set(input).kind, SetKind::kFull);
}

TEST_F(NextSets, ADamagedChainIsNotBuiltOn) {
  chain_of(2);
  add({1, 3}, SetKind::kIncremental, SetId{1, 2}, "2026-03-05T21:00:00Z", false);
  EXPECT_EQ(next_set(input).id, (SetId{2, 0}));
}

TEST_F(NextSets, AChainNumberIsNeverUsedTwice) {
  chain_of(2);
  input.highest_chain = 7;
  EXPECT_EQ(next_set(input).id, (SetId{8, 0}));
}

TEST_F(NextSets, ANumberIsUsedOnceWhoeverUsedItAndWhatBecameOfIt) {
  chain_of(2);
  input.used = {{1, 4}};  // another PC's run, or a set whose seal cannot be read
  NextSet next = next_set(input);
  EXPECT_EQ(next.id, (SetId{1, 5}));
  EXPECT_EQ(next.based_on, (SetId{1, 2}));
  input.wanted = SetKind::kFull;
  input.used = {{3, 0}, {1, 9}};
  EXPECT_EQ(next_set(input).id, (SetId{4, 0}));
  input.sets.clear();
  input.used = {{1, 0}};
  EXPECT_EQ(next_set(input).id, (SetId{2, 0})) << "on a shelf without any set too";
}

class Moments : public testing::Test {
 protected:
  void SetUp() override {
    ::setenv("TZ", "UTC", 1);
    ::tzset();
    for (int day = 1; day <= 9; ++day) {
      sets.push_back({{1, static_cast<std::uint32_t>(day - 1)},
                      SetKind::kIncremental,
                      std::nullopt,
                      at("2026-03-0" + std::to_string(day) + "T21:00:30Z"),
                      true});
    }
  }
  // now: Tuesday, 2026-03-10 12:00
  std::string chosen(const std::string& text) {
    auto moment = parse_moment(text, at("2026-03-10T12:00:00Z"));
    if (!moment) return "not a time";
    auto set = choose_set(sets, *moment);
    return set ? set->to_string() : "none";
  }
  std::vector<SetFacts> sets;
};

TEST_F(Moments, ToComeAreDaysAhead) {
  Nanos tuesday = at("2026-03-10T12:00:00Z");
  const std::vector<std::pair<const char*, const char*>> cases = {
      {"tomorrow", "2026-03-11T00:00:00Z"},   {"friday", "2026-03-13T00:00:00Z"},
      {"fri 17:30", "2026-03-13T17:30:00Z"},  {"tuesday", "2026-03-17T00:00:00Z"},
      {"in 3 days", "2026-03-13T00:00:00Z"},  {"in 2 weeks", "2026-03-24T00:00:00Z"},
      {"2026-04-01", "2026-04-01T00:00:00Z"}, {"2026-04-01 08:00", "2026-04-01T08:00:00Z"}};
  for (const auto& [text, expected] : cases) {
    EXPECT_EQ(parse_until(text, tuesday), at(expected)) << text;
  }
  for (const char* wrong : {"", "newest", "c1-0", "in 3", "in days", "3 days ago", "26:00"}) {
    EXPECT_EQ(parse_until(wrong, tuesday), std::nullopt) << wrong;
  }
}

TEST_F(Moments, MeanTheLastRestorePointNotLaterThanThey) {
  const std::vector<std::pair<const char*, const char*>> cases = {{"newest", "c1-8"},
                                                                  {"oldest", "c1-0"},
                                                                  {"c1-4", "c1-4"},
                                                                  {"c9-9", "none"},
                                                                  {"2026-03-04", "c1-3"},
                                                                  {"2026-03-04 21:00", "c1-3"},
                                                                  {"2026-03-04 20:59", "c1-2"},
                                                                  {"2026-02-28", "none"},
                                                                  {"yesterday", "c1-8"},
                                                                  {"yesterday 17:00", "c1-7"},
                                                                  {"today", "c1-8"},
                                                                  {"5026-03-14 21:00", "c1-8"},
                                                                  {"99999 weeks ago", "none"},
                                                                  {"99999 years ago", "none"},
                                                                  {"3 days ago", "c1-6"},
                                                                  {"1 week ago", "c1-2"},
                                                                  {"20 hours ago", "c1-7"},
                                                                  {"monday", "c1-8"},
                                                                  {"monday 17:00", "c1-7"},
                                                                  {"Sunday", "c1-7"},
                                                                  {"tuesday 09:00", "c1-8"},
                                                                  {"tuesday 23:00", "c1-2"},
                                                                  {"2026-03-04T21:00:30Z", "c1-3"},
                                                                  {"2026-03", "c1-8"},
                                                                  {"2026-02", "none"},
                                                                  {"tue", "c1-8"},
                                                                  {"thurs", "c1-4"},
                                                                  {"last tuesday", "c1-2"},
                                                                  {"last tue 17:00", "c1-1"},
                                                                  {"last monday", "c1-8"},
                                                                  {"last week", "c1-7"},
                                                                  {"last month", "none"},
                                                                  {"last 2026-03-04", "not a time"},
                                                                  {"last yesterday", "not a time"},
                                                                  {"last", "not a time"},
                                                                  {"2026-13", "not a time"},
                                                                  {"2026-02-30", "not a time"},
                                                                  {"soon", "not a time"},
                                                                  {"25:00", "not a time"},
                                                                  {"-3 days ago", "not a time"},
                                                                  {"", "not a time"}};
  for (const auto& [text, set] : cases) EXPECT_EQ(chosen(text), set) << text;
}

}  // namespace
}  // namespace kestrum
