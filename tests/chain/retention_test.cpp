#include "kestrum/chain/retention.h"

#include <gtest/gtest.h>

#include <map>
#include <random>
#include <set>

#include "kestrum/chain/next_kind.h"

namespace kestrum {
namespace {

constexpr Nanos kFirstDay = 20'000 * kDay + 21 * kHour;  // some evening in 2024

// Sets of a job that ran every day: "fiii" is a full set and three incrementals, "fdd" a full set
// and two differentials; a space begins nothing.
std::vector<KeepFacts> history(const std::string& kinds) {
  std::vector<KeepFacts> sets;
  Nanos taken = kFirstDay;
  std::uint32_t chain = 0, link = 0;
  for (char c : kinds) {
    if (c == ' ') continue;
    KeepFacts set;
    set.kind = c == 'f'   ? SetKind::kFull
               : c == 'd' ? SetKind::kDifferential
                          : SetKind::kIncremental;
    if (c == 'f') ++chain, link = 0;
    set.id = {chain, link};
    if (c == 'i') set.based_on = SetId{chain, link - 1};
    if (c == 'd') set.based_on = SetId{chain, 0};
    set.taken = taken;
    ++link;
    taken += kDay;
    sets.push_back(set);
  }
  return sets;
}

std::string staying(KeepInput input) {
  std::string text;
  for (const Verdict& verdict : decide_keep(input)) {
    EXPECT_FALSE(verdict.reason.empty());
    if (!verdict.goes) text += (text.empty() ? "" : " ") + verdict.id.to_string();
  }
  return text;
}

KeepInput input_of(const std::string& kinds, Nanos keep_for, unsigned chains = 1) {
  KeepInput input;
  input.sets = history(kinds);
  input.policy.keep_for = keep_for;
  input.policy.chains = chains;
  input.now = input.sets.back().taken + kHour;
  return input;
}

TEST(Keep, DamageIsNobodysToRemoveAndNotCountedOn) {
  KeepInput input = input_of("fi fi fi", 0);
  input.sets[4].damaged = true;  // c3-0
  EXPECT_EQ(staying(input), "c2-0 c2-1 c3-0 c3-1") << "chain 2 is the newest complete one";
  input = input_of("fi fi fi", 0);
  input.sets[0].damaged = true;
  EXPECT_EQ(staying(input), "c1-0 c3-0 c3-1");
  EXPECT_NE(explain_kept(input).find("chain 1 holds damage"), std::string::npos)
      << explain_kept(input);
  for (KeepFacts& set : input.sets) set.damaged = true;
  EXPECT_EQ(staying(input), "c1-0 c1-1 c2-0 c2-1 c3-0 c3-1");
}

TEST(Keep, TheNewestChainAlwaysStays) {
  EXPECT_EQ(staying(input_of("fii fii fi", 0)), "c3-0 c3-1");
  KeepInput deep = input_of("fii fii fi", 14 * kDay, 3);
  deep.depth = Depth::kBreakChains;
  EXPECT_EQ(staying(deep), "c3-0 c3-1");
}

TEST(Keep, YoungSetsStayWithWhatTheyLeanOn) {
  // Eight days; the last four are promised: from c2-1 on, and c2-0 for its sake.
  EXPECT_EQ(staying(input_of("fii fiii f", 4 * kDay)), "c2-0 c2-1 c2-2 c2-3 c3-0");
  EXPECT_EQ(staying(input_of("fddd f", 2 * kDay)), "c1-0 c1-3 c2-0")
      << "differentials between may go";
}

TEST(Keep, ChainsArePromisedWhole) {
  EXPECT_EQ(staying(input_of("fi fi fi fi", 0, 3)), "c2-0 c2-1 c3-0 c3-1 c4-0 c4-1");
}

TEST(Keep, AChainThatWasNotReadBackDoesNotReplaceTheOneBefore) {
  KeepInput input = input_of("fi fi fi", 0);
  input.sets[4].verified = false;
  EXPECT_EQ(staying(input), "c2-0 c2-1 c3-0 c3-1");
}

TEST(Keep, WithoutAChainThatWasReadBackNothingGoes) {
  KeepInput input = input_of("fi fi fi", 0);
  for (KeepFacts& set : input.sets) set.verified = false;
  EXPECT_EQ(staying(input), "c1-0 c1-1 c2-0 c2-1 c3-0 c3-1");
  input.sets[0].verified = true;
  EXPECT_EQ(staying(input), "c1-0 c1-1 c2-0 c2-1 c3-0 c3-1");
  input.sets[2].verified = true;
  EXPECT_EQ(staying(input), "c2-0 c2-1 c3-0 c3-1");
}

TEST(Keep, ChainsThatHoldWhatTheNewestSetLacksStay) {
  KeepInput input = input_of("fi fi fi fi", 0);
  input.only_here = {1, 3, 9};
  EXPECT_EQ(staying(input), "c1-0 c1-1 c3-0 c3-1 c4-0 c4-1");
  input.depth = Depth::kBreakChains;
  EXPECT_EQ(staying(input), "c1-0 c1-1 c3-0 c3-1 c4-0 c4-1") << "it is no promise to be broken";
  input.only_here.clear();
  input.lacking_unknown = true;
  EXPECT_EQ(staying(input), "c1-0 c1-1 c2-0 c2-1 c3-0 c3-1 c4-0 c4-1");
}

TEST(Keep, DamageStaysAndReplacesNothing) {
  KeepInput input = input_of("fi fi fi", 0);
  input.sets[0].sealed = false;
  input.sets[4].sealed = false;
  EXPECT_EQ(staying(input), "c1-0 c1-1 c2-0 c2-1 c3-0 c3-1")
      << "c1-1 can be used again once the seal of c1-0 is put back";
  input.sets[0].sealed = true;
  EXPECT_EQ(staying(input), "c2-0 c2-1 c3-0 c3-1");
}

TEST(Keep, ASealThatCannotBeReadHoldsEverything) {
  KeepInput input = input_of("fii fii fii", 0);
  KeepFacts& unread = input.sets[4];  // c2-1
  unread.sealed = false;
  unread.unreadable = true;
  unread.taken = 0;  // nobody knows
  EXPECT_EQ(staying(input), "c1-0 c1-1 c1-2 c2-0 c2-1 c2-2 c3-0 c3-1 c3-2");
  EXPECT_TRUE(pruning_blocked(input));
  EXPECT_NE(explain_kept(input).find("the seal of c2-1 cannot be read"), std::string::npos);
  input.depth = Depth::kBreakChains;
  EXPECT_EQ(staying(input), "c1-0 c1-1 c1-2 c2-0 c2-1 c2-2 c3-0 c3-1 c3-2")
      << "not even to make room";
  input.depth = Depth::kKeepPromises;
  unread.unreadable = false;  // recorded as damage
  EXPECT_FALSE(pruning_blocked(input));
  EXPECT_EQ(staying(input), "c2-0 c2-1 c2-2 c3-0 c3-1 c3-2") << "its chain stays";
}

TEST(Keep, NoAgeIsTakenFromASetThatCannotBeRead) {
  KeepInput input = input_of("fi fi fi", 30 * kDay);
  input.sets.back().sealed = false;
  input.sets.back().taken = 0;
  EXPECT_EQ(staying(input), "c1-0 c1-1 c2-0 c2-1 c3-0 c3-1");
}

TEST(Keep, AClockInThePastMakesNoOtherSetLookOld) {
  KeepInput input = input_of("f f f f f f", 30 * kDay);
  input.sets[4].taken -= 2255 * kDay;
  EXPECT_EQ(staying(input), "c1-0 c2-0 c3-0 c4-0 c5-0 c6-0");
  // Nor does one in the future keep everything for years.
  input = input_of("f f f f f f", 2 * kDay);
  input.sets[2].taken += 4000 * kDay;
  EXPECT_EQ(staying(input), "c5-0 c6-0");
}

struct Corrected {
  std::vector<int> taken, expected;  // days; now is day 10
};
TEST(Times, AreEachSetsOwnWhereTheyMakeSense) {
  for (const Corrected& c : std::vector<Corrected>{
           {{1, 2, 3}, {1, 2, 3}},
           {{1, 2, -500, 4}, {1, 2, 2, 4}},
           {{1, 99, 3, 4}, {1, 3, 3, 4}},
           {{1, 99, 98, 4}, {1, 4, 4, 4}},
           {{1, 2, 99}, {1, 2, 10}},
           {{99}, {10}},
           {{7, 3, 4, 8}, {7, 7, 7, 8}},
           {{-500, 2, 3}, {-500, 2, 3}},
       }) {
    std::vector<KeepFacts> sets;
    for (int day : c.taken) {
      KeepFacts set;
      set.id = {static_cast<std::uint32_t>(sets.size() + 1), 0};
      set.taken = day * kDay;
      sets.push_back(set);
    }
    std::vector<int> found;
    for (const auto& [id, taken] : corrected_times(sets, 10 * kDay)) {
      found.push_back(static_cast<int>(taken / kDay));
    }
    EXPECT_EQ(found, c.expected);
  }
}

TEST(Keep, WhereAClockWasWrongEachWayOfCountingKeepsOneOfAPeriod) {
  KeepInput input = input_of("f f f f f f f f", 0);
  input.policy.thin = {*ThinRule::parse("one a day for 20 days")};
  input.sets[1].taken = input.sets[5].taken + kHour;  // c2-0 says that it is of the sixth day
  EXPECT_EQ(staying(input), "c1-0 c2-0 c3-0 c4-0 c5-0 c6-0 c7-0 c8-0");
}

TEST(Keep, ASuspectSetHoldsEverything) {
  KeepInput input = input_of("fi fi fi", 0);
  input.sets[5].suspect = true;
  EXPECT_EQ(staying(input), "c1-0 c1-1 c2-0 c2-1 c3-0 c3-1");
}

TEST(Keep, ABaseInUseStays) {
  KeepInput input = input_of("fi fi f", 0);
  input.base_in_use = SetId{1, 1};
  EXPECT_EQ(staying(input), "c1-0 c1-1 c3-0");
}

TEST(Keep, ThinningKeepsOneOfEachPeriod) {
  KeepInput input = input_of("fiiiiii fiiiiii fiiiiii fiiiiii fiiiiii", 2 * kDay);
  input.policy.thin = {*ThinRule::parse(
      "one a week for 4 weeks")};  // the weeks turn on Mondays, the chains on Fridays
  std::string text = staying(input);
  EXPECT_NE(text.find("c3-0"), std::string::npos) << text;
  EXPECT_NE(text.find("c4-0"), std::string::npos) << text;
  EXPECT_EQ(text.find("c2-"), std::string::npos) << text;
  EXPECT_EQ(text.find("c3-1"), std::string::npos) << "full sets need nothing else: " << text;
  input.depth = Depth::kBreakThin;
  EXPECT_EQ(staying(input).find("c4-0"), std::string::npos);
}

TEST(Keep, ASetFromAFutureThatWasNoneIsAsOldAsWhatFollowed) {
  KeepInput input = input_of("fi fi fi", 3 * kDay);
  input.sets[1].taken += 5000 * kDay;
  EXPECT_EQ(staying(input), "c2-0 c2-1 c3-0 c3-1");
}

TEST(Holds, NameThePromiseAndItsChains) {
  KeepInput input = input_of("fi fi fi fi", 5 * kDay);
  EXPECT_EQ(explain_kept(input), "\"for = 5 days\" still needs chains 2 and 3");
  input.policy.keep_for = 0;
  EXPECT_EQ(explain_kept(input), "only the newest complete chain is left, and that never goes");
  input.policy.chains = 2;
  EXPECT_EQ(explain_kept(input), "\"chains = 2\" still needs chain 3");
  input.policy.keep_for = 4 * kDay;
  input.policy.chains = 4;
  EXPECT_EQ(explain_kept(input), "\"chains = 4\" still needs chains 1, 2 and 3")
      << "held already by the first promise";
  input.sets[3].suspect = true;
  EXPECT_NE(explain_kept(input).find("c2-1 is suspect"), std::string::npos);
}

struct Said {
  const char *text, *standard;
};
TEST(Thin, PhrasesAreRead) {
  for (auto [text, standard] : {Said{"one a week for 8 weeks", "one a week for 8 weeks"},
                                Said{"1 per month for 12 months", "one a month for 12 months"},
                                Said{"One a year for 1 year", "one a year for 1 year"}}) {
    ASSERT_TRUE(ThinRule::parse(text)) << text;
    EXPECT_EQ(ThinRule::parse(text)->text(), standard);
  }
  for (const char* text : {"", "one a week", "two a week for 8 weeks", "one a week for 8 months",
                           "one a week for 0 weeks", "one a fortnight for 8 fortnights",
                           "one a week for -1 weeks", "one a week for 99999 weeks"}) {
    EXPECT_FALSE(ThinRule::parse(text)) << text;
  }
}

TEST(Clock, IsDoubtedWhenItMakesNoSense) {
  auto sets = history("fiii");
  Nanos newest = sets.back().taken;
  EXPECT_EQ(doubt_of_clock(sets, newest + kDay, kDay, std::nullopt), "");
  EXPECT_NE(doubt_of_clock(sets, newest - kMinute, kDay, std::nullopt), "");
  EXPECT_EQ(doubt_of_clock(sets, newest + 59 * kDay, kDay, std::nullopt), "");
  EXPECT_NE(doubt_of_clock(sets, newest + 61 * kDay, kDay, std::nullopt), "");
  EXPECT_EQ(doubt_of_clock(sets, newest + 61 * kDay, 30 * kDay, std::nullopt), "");
  // Off for long, and the clock is known to be right: what was young still is by its date.
  EXPECT_EQ(doubt_of_clock(sets, newest + 100 * kDay, kDay, std::nullopt, true), "");
  EXPECT_NE(doubt_of_clock(sets, newest - kMinute, kDay, std::nullopt, true), "");
  // A run under a clock from the future is doubted after the next run too, until somebody looked.
  KeepFacts future = sets.back();
  future.id.link = 4;
  future.taken = newest + 5000 * kDay;
  sets.push_back(future);
  EXPECT_NE(doubt_of_clock(sets, future.taken + kDay, kDay, std::nullopt), "");
  EXPECT_EQ(doubt_of_clock(sets, future.taken + kDay, kDay, future.id), "");
}

#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
constexpr unsigned kHistories = 300;  // everything is slower here
#else
constexpr unsigned kHistories = 2000;
#endif

using Sets = std::map<SetId, KeepFacts>;

bool restorable_in(const Sets& sets, const KeepFacts* at) {
  for (;; at = &sets.at(*at->based_on)) {
    if (!at->sealed) return false;
    if (!at->based_on) return true;
    if (!sets.contains(*at->based_on)) return false;
  }
}

bool is_complete_full(const KeepFacts& facts) {
  return facts.kind == SetKind::kFull && facts.sealed && facts.verified && !facts.damaged;
}

// A shelf over months: sets of mixed kinds come, clocks are wrong, damage is found, a policy
// prunes.
class History {
 public:
  explicit History(unsigned seed) : random_(seed) {
    input.policy.keep_for = static_cast<Nanos>(below(30)) * kDay;
    input.policy.chains = 1 + below(3);
    if (below(2) == 0)
      input.policy.thin.push_back(
          {static_cast<ThinRule::Unit>(below(4)), static_cast<unsigned>(1 + below(6))});
    if (below(6) == 0) input.depth = static_cast<Depth>(1 + below(3));
    steps = 20 + below(60);
  }

  unsigned below(unsigned limit) { return random_() % limit; }

  void add_set() {
    now += static_cast<Nanos>(below(72)) * kHour;
    bool lost_index = below(25) == 0;
    KeepFacts set;
    // For once by a wrong clock.
    set.taken = below(40) == 0 ? now + 3000 * kDay : below(40) == 0 ? now - 3000 * kDay : now;
    bool newest_ok = shelf.contains({chain_, link_}) && shelf.at({chain_, link_}).sealed;
    if (chain_ == 0 || lost_index || !newest_ok || below(8) == 0) {
      set.id = {++chain_, link_ = 0};
    } else {
      set.kind = below(3) == 0 ? SetKind::kDifferential : SetKind::kIncremental;
      set.based_on = set.kind == SetKind::kDifferential ? SetId{chain_, 0} : SetId{chain_, link_};
      if (!shelf.contains(*set.based_on) || !shelf.at(*set.based_on).sealed)
        set.based_on = SetId{chain_, link_};
      set.id = {chain_, ++link_};
    }
    set.verified = below(10) != 0;
    if (below(10) == 0) input.only_here.insert(1 + below(chain_));
    if (below(12) == 0) input.only_here.clear();
    input.lacking_unknown = below(40) == 0;
    shelf[set.id] = set;
    if (below(60) == 0) shelf.begin()->second.sealed = false;
    if (below(250) == 0) {
      KeepFacts& unread =
          std::next(shelf.begin(), below(static_cast<unsigned>(shelf.size())))->second;
      unread.sealed = false;
      unread.unreadable = below(2) == 0;
    }
    if (below(60) == 0) shelf.rbegin()->second.damaged = true;
  }

  std::vector<Verdict> decide(const Sets& sets) {
    input.sets.clear();
    for (const auto& [id, facts] : sets) input.sets.push_back(facts);
    input.now = now;
    return decide_keep(input);
  }

  bool any_unreadable() const {
    return std::any_of(shelf.begin(), shelf.end(),
                       [](const auto& entry) { return entry.second.unreadable; });
  }

  // Somebody looked at a seal that could not be read, or even had a copy of it.
  void somebody_looks() {
    bool had_copy = below(2) == 0;
    for (auto& [id, facts] : shelf) {
      facts.sealed |= facts.unreadable && had_copy;
      facts.unreadable = false;
    }
  }

  KeepInput input;
  Nanos now = kFirstDay;
  Sets shelf;
  unsigned steps = 0;

 private:
  std::mt19937 random_;
  std::uint32_t chain_ = 0, link_ = 0;
};

void expect_what_is_unread_holds(const History& history, const std::vector<Verdict>& verdicts) {
  for (const Verdict& verdict : verdicts) {
    ASSERT_FALSE(history.any_unreadable() && verdict.goes) << "nothing goes";
    bool of_unsealed =
        std::any_of(history.shelf.begin(), history.shelf.end(), [&](const auto& entry) {
          return !entry.second.sealed && entry.first.chain == verdict.id.chain;
        });
    ASSERT_FALSE(of_unsealed && verdict.goes) << "its chain stays";
  }
}

// From the last to the first, as they are removed; at no moment does one lack its base.
void remove_in_order(const History& history, const std::vector<Verdict>& verdicts, Sets& left) {
  for (auto verdict = verdicts.rbegin(); verdict != verdicts.rend(); ++verdict) {
    if (!verdict->goes) continue;
    ASSERT_TRUE(left.at(verdict->id).sealed && !left.at(verdict->id).damaged)
        << "damage is never removed";
    left.erase(verdict->id);
    for (const auto& [id, facts] : left) {
      ASSERT_EQ(restorable_in(left, &facts), restorable_in(history.shelf, &history.shelf.at(id)))
          << id.to_string();
    }
  }
}

void expect_promises_kept(const History& history, const Sets& left) {
  std::optional<SetId> newest_complete;
  std::set<std::uint32_t> complete_before, complete_after;
  for (const auto& [id, facts] : history.shelf) {
    if (!is_complete_full(facts)) continue;
    newest_complete = id;
    complete_before.insert(id.chain);
    if (left.contains(id)) complete_after.insert(id.chain);
  }
  ASSERT_TRUE(left.contains(std::prev(history.shelf.end())->first)) << "the newest set";
  const KeepInput& input = history.input;
  for (const auto& [id, facts] : history.shelf) {
    ASSERT_TRUE(!newest_complete || id.chain != newest_complete->chain || left.contains(id))
        << "the newest complete chain";
    if (facts.sealed && (input.lacking_unknown || input.only_here.contains(id.chain))) {
      ASSERT_TRUE(left.contains(id)) << "only here";
    }
    bool young = facts.taken <= history.now && history.now - facts.taken < input.policy.keep_for;
    if (young && input.depth < Depth::kBreakFor) {
      ASSERT_TRUE(left.contains(id)) << "promised by age";
    }
  }
  if (input.depth != Depth::kKeepPromises) return;
  ASSERT_GE(complete_after.size(),
            std::min<std::size_t>(input.policy.chains, complete_before.size()));
}

// Thousands of histories with mixed kinds, policies, clocks and damage. After every step what is
// left must be restorable, promised things must be there, and nothing else.
TEST(Keep, HoldsItsPromisesWhateverTheHistory) {
  for (unsigned seed = 1; seed <= kHistories; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    History history(seed);
    for (unsigned step = 0; step < history.steps; ++step) {
      history.add_set();
      std::vector<Verdict> verdicts = history.decide(history.shelf);
      ASSERT_EQ(verdicts.size(), history.shelf.size());
      Sets left = history.shelf;
      ASSERT_NO_FATAL_FAILURE(expect_what_is_unread_holds(history, verdicts));
      ASSERT_NO_FATAL_FAILURE(remove_in_order(history, verdicts, left));
      ASSERT_NO_FATAL_FAILURE(expect_promises_kept(history, left));
      // Deciding again finds nothing more: what stays, stays for a reason that lasts.
      for (const Verdict& verdict : history.decide(left)) {
        ASSERT_FALSE(verdict.goes) << verdict.id.to_string();
      }
      bool unreadable = history.any_unreadable();
      history.shelf = left;
      if (unreadable && history.below(2) == 0) history.somebody_looks();
    }
  }
}

}  // namespace
}  // namespace kestrum
