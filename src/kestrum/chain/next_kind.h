// Which kind of set comes next. Pure decisions: values in, values out.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/chain/set_id.h"

namespace kestrum {

// What the decisions need to know of a set.
struct SetFacts {
  SetId id;
  SetKind kind = SetKind::kFull;
  std::optional<SetId> based_on;
  Nanos taken = 0;         // when its run started: the restore point
  bool restorable = true;  // it and all it is based on are sealed and readable
};

// When a new full set is due.
struct NewFullRule {
  enum class When { kAfter, kWeekday, kEveryDays, kFirstOfMonth, kNever };
  When when = When::kAfter;
  unsigned count = 13;   // dependents, or days
  unsigned weekday = 0;  // 0 is Sunday

  // "after 13 sets", "after 13 incrementals", "after 6 differentials", "every sunday", "every 4
  // weeks", "every 10 days", "first run of the month", "never". Nothing if the phrase is none of
  // these.
  static std::optional<NewFullRule> parse(std::string_view phrase);
};

struct NextSet {
  SetId id;
  SetKind kind = SetKind::kFull;
  std::optional<SetId> based_on;
  std::string why;          // in words, a clause: "the first set on this shelf"
  bool merely_due = false;  // a full set that could be a dependent one as well
};

struct NextSetInput {
  std::vector<SetFacts> sets;  // of the shelf, any order
  // Numbers that are not free though no sealed set has them: of sets whose seal cannot be read, of
  // sets that another machine began. A number is used once.
  std::vector<SetId> used;
  std::uint32_t highest_chain = 0;  // ever seen
  SetKind follows_full = SetKind::kIncremental;
  NewFullRule new_full;
  std::optional<SetKind> wanted;  // --kind
  std::optional<std::string>
      must_be_full;  // why no set can be based on another, such as a lost index
  std::optional<std::string> rather_not_full;  // why a full set that is merely due should wait
  Nanos now = 0;
};

NextSet next_set(const NextSetInput& input);

}  // namespace kestrum
