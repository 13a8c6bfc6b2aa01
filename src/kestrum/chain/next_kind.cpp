#include "kestrum/chain/next_kind.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/base/zone.h"
#include "kestrum/chain/words.h"

namespace kestrum {
namespace {

constexpr std::array<std::string_view, 7> kWeekdays = {"sunday",   "monday", "tuesday", "wednesday",
                                                       "thursday", "friday", "saturday"};

std::optional<std::string> due_reason(const NewFullRule& rule, const SetFacts& full,
                                      std::size_t dependents, Nanos now) {
  Zone zone = Zone::local();
  LocalDay then = zone.wall(full.taken).day, today = zone.wall(now).day;
  std::int64_t days = (today - then).count();
  switch (rule.when) {
    case NewFullRule::When::kAfter:
      if (dependents < rule.count) return std::nullopt;
      return fmt::format("{} after the last full set", counted(dependents, "set"));
    case NewFullRule::When::kEveryDays:
      if (days < static_cast<std::int64_t>(rule.count)) return std::nullopt;
      return fmt::format("the last full set is {} old",
                         counted(static_cast<std::uint64_t>(days), "day"));
    case NewFullRule::When::kWeekday: {
      std::int64_t since = (date::weekday(today) - date::weekday(rule.weekday)).count();
      if (days <= since) return std::nullopt;
      return fmt::format("a new full set every {}", kWeekdays[rule.weekday]);
    }
    case NewFullRule::When::kFirstOfMonth: {
      date::year_month_day day_then(then), day_now(today);
      bool same_month = day_then.year() == day_now.year() && day_then.month() == day_now.month();
      if (days <= 0 || same_month) return std::nullopt;
      return "the first run of the month";
    }
    case NewFullRule::When::kNever:
      return std::nullopt;
  }
  return std::nullopt;
}

}  // namespace

std::optional<NewFullRule> NewFullRule::parse(std::string_view phrase) {
  std::vector<std::string> words = lower_words(phrase);
  auto count_at = [&](std::size_t i) -> std::optional<unsigned> {
    constexpr std::array<std::string_view, 12> kNumbers = {"one",  "two", "three",  "four",
                                                           "five", "six", "seven",  "eight",
                                                           "nine", "ten", "eleven", "twelve"};
    auto word = std::find(kNumbers.begin(), kNumbers.end(), words[i]);
    if (word != kNumbers.end()) return static_cast<unsigned>(word - kNumbers.begin()) + 1;
    auto value = parse_number(words[i], 100'000);
    return value == 0U ? std::nullopt : value;
  };
  auto is = [](const std::string& word, std::string_view singular) {
    return word == singular || word == std::string(singular) + "s";
  };
  if (words.size() == 1 && words[0] == "never") return NewFullRule{When::kNever};
  for (std::string_view monthly : {"first run of the month", "first run of each month", "monthly",
                                   "every month", "once a month"}) {
    if (words == split(monthly, ' ')) return NewFullRule{When::kFirstOfMonth};
  }
  for (std::string_view weekly : {"weekly", "once a week"}) {
    if (words == split(weekly, ' ')) return NewFullRule{When::kEveryDays, 7};
  }
  if (words.size() == 1 && words[0] == "daily") return NewFullRule{When::kEveryDays, 1};
  if (words.size() == 3 && words[0] == "after") {
    auto count = count_at(1);
    bool known = is(words[2], "incremental") || is(words[2], "differential") || is(words[2], "set");
    if (count && known) return NewFullRule{When::kAfter, *count};
  }
  if (words.size() == 2 && words[0] == "every") {
    for (unsigned day = 0; day < kWeekdays.size(); ++day) {
      if (words[1] == kWeekdays[day] || words[1] == kWeekdays[day].substr(0, 3)) {
        return NewFullRule{When::kWeekday, 0, day};
      }
    }
    if (words[1] == "week") return NewFullRule{When::kEveryDays, 7};
    if (words[1] == "day") return NewFullRule{When::kEveryDays, 1};
  }
  if (words.size() == 3 && words[0] == "every") {
    auto count = count_at(1);
    if (count && is(words[2], "day")) return NewFullRule{When::kEveryDays, *count};
    if (count && is(words[2], "week")) return NewFullRule{When::kEveryDays, *count * 7};
  }
  return std::nullopt;
}

NextSet next_set(const NextSetInput& input) {
  std::uint32_t newest_chain = input.highest_chain;
  for (const SetFacts& set : input.sets) newest_chain = std::max(newest_chain, set.id.chain);
  std::uint32_t used_chain = newest_chain;
  for (SetId id : input.used) used_chain = std::max(used_chain, id.chain);
  auto full = [&](std::string why) {
    return NextSet{{used_chain + 1, 0}, SetKind::kFull, std::nullopt, std::move(why), false};
  };
  if (input.must_be_full) return full(*input.must_be_full);
  if (input.sets.empty()) return full("the first set on this shelf");
  if (input.wanted == SetKind::kFull) return full("asked for");

  const SetFacts *newest = nullptr, *chain_full = nullptr;
  for (const SetFacts& set : input.sets) {
    if (newest == nullptr || newest->id < set.id) newest = &set;
  }
  std::size_t dependents = 0;
  for (const SetFacts& set : input.sets) {
    if (set.id.chain != newest->id.chain) continue;
    if (set.kind == SetKind::kFull) {
      chain_full = &set;
    } else {
      ++dependents;
    }
  }
  if (newest->id.chain != newest_chain)
    return full("the newest chain is not on this shelf any more");
  if (chain_full == nullptr || !newest->restorable) {
    return full(fmt::format("chain {} is damaged", newest->id.chain));
  }
  SetKind kind = input.wanted.value_or(input.follows_full);
  std::string why = input.wanted ? "asked for" : "";
  if (!input.wanted) {
    if (kind == SetKind::kFull) return full("every set of this job is full");
    if (auto due = due_reason(input.new_full, *chain_full, dependents, input.now)) {
      if (!input.rather_not_full) {
        NextSet next = full(*due);
        next.merely_due = true;
        return next;
      }
      why = fmt::format("a full set is due ({}), but it waits: {}", *due, *input.rather_not_full);
    } else {
      why = fmt::format("number {} after the full set {}", dependents + 1,
                        chain_full->id.to_string());
    }
  }
  SetId base = kind == SetKind::kDifferential ? chain_full->id : newest->id;
  std::uint32_t link = newest->id.link;
  for (SetId id : input.used) {
    if (id.chain == newest->id.chain) link = std::max(link, id.link);
  }
  return {{newest->id.chain, link + 1}, kind, base, why, false};
}

}  // namespace kestrum
