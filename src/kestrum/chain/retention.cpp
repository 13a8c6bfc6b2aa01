#include "kestrum/chain/retention.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/base/zone.h"
#include "kestrum/chain/words.h"

namespace kestrum {
namespace {

constexpr Nanos kLongGap = 60 * kDay;
constexpr Nanos kCorrection = kHour;  // by which clocks are set right without anybody minding
constexpr int kManyIntervals = 10;
constexpr unsigned kMostPeriods = 10'000;

// The calendar period that a moment falls into, by local time; consecutive periods have
// consecutive numbers.
std::int64_t period_of(ThinRule::Unit unit, Nanos moment, const Zone& zone) {
  LocalDay day = zone.wall(moment).day;
  date::year_month_day date(day);
  int year = static_cast<int>(date.year());
  if (unit == ThinRule::Unit::kYearly) return year;
  if (unit == ThinRule::Unit::kMonthly) {
    return year * 12 + static_cast<int>(static_cast<unsigned>(date.month()));
  }
  std::int64_t days = day.time_since_epoch().count();
  if (unit == ThinRule::Unit::kDaily) return days;
  return date::floor<date::weeks>(date::days(days + 3))
      .count();  // Monday first; 1970-01-01 was a Thursday
}

const char* unit_name(ThinRule::Unit unit) {
  constexpr const char* kNames[] = {"day", "week", "month", "year"};
  return kNames[static_cast<int>(unit)];
}

std::string age_in_words(Nanos age) {
  if (age < kDay) return "less than a day old";
  return counted(static_cast<std::uint64_t>(age / kDay), "day") + " old";
}

std::string reason_of_unreadable(SetId id) {
  return "the seal of " + id.to_string() + " cannot be read";
}

std::string reason_of_hold(const KeepPolicy& policy) {
  return "the job is held: " + printable(policy.hold);
}

std::string reason_of_suspect(SetId id) {
  return id.to_string() + " is suspect, and nobody has said that it is all right";
}

class Keeper {
 public:
  explicit Keeper(const KeepInput& input) : input_(input) {
    for (const KeepFacts& set : input.sets) sets_[set.id] = &set;
    taken_ = corrected_times(input.sets, input.now);
    for (const auto& [id, set] : sets_) {  // bases come before what is based on them
      bool base_ok =
          !set->based_on || (*set->based_on < id && restorable_.contains(*set->based_on));
      if (set->sealed && base_ok) restorable_.insert(id);
    }
  }

  std::vector<Verdict> decide() {
    if (!input_.policy.hold.empty()) keep_all(KeptBy::kHeld, reason_of_hold(input_.policy));
    for (const auto& [id, set] : sets_) {
      bool damaged = !set->sealed || set->damaged;
      if (damaged) keep(id, KeptBy::kDamage, "it is damaged, and damage is nobody's to remove");
    }
    keep_chains_of_unsealed();
    keep_chains();
    if (const KeepFacts* unreadable = first(&KeepFacts::unreadable)) {
      keep_all(KeptBy::kUnreadable, reason_of_unreadable(unreadable->id));
    }
    if (const KeepFacts* suspect = first(&KeepFacts::suspect)) {
      keep_all(KeptBy::kSuspect, reason_of_suspect(suspect->id));
    }
    if (!input_.set_back.empty()) keep_all(KeptBy::kSetBack, input_.set_back);
    if (!input_.clock_doubt.empty()) keep_all(KeptBy::kClock, input_.clock_doubt);
    if (input_.depth < Depth::kBreakFor) keep_young();
    if (input_.depth < Depth::kBreakThin) keep_thinned();
    if (input_.base_in_use) {
      keep(*input_.base_in_use, KeptBy::kInUse, "a set that is being written is based on it");
    }
    keep_bases();
    std::vector<Verdict> verdicts;
    for (const auto& [id, set] : sets_) {
      auto kept = reasons_.find(id);
      bool goes = kept == reasons_.end();
      verdicts.push_back({id, goes, goes ? KeptBy::kNothing : kept->second.kept_by,
                          goes ? reason_to_go(*set) : kept->second.text});
    }
    return verdicts;
  }

 private:
  // Of a sealed set.
  Nanos age_of(const KeepFacts& set) const { return input_.now - taken_.at(set.id); }

  struct Reason {
    KeptBy kept_by;
    std::string text;
  };

  void keep(SetId id, KeptBy kept_by, const std::string& text) {
    reasons_.emplace(id, Reason{kept_by, text});
  }

  void keep_all(KeptBy kept_by, const std::string& text) {
    for (const auto& [id, set] : sets_) keep(id, kept_by, text);
  }

  const KeepFacts* first(bool KeepFacts::*quality) const {
    for (const auto& [id, set] : sets_) {
      if (set->*quality) return set;
    }
    return nullptr;
  }

  // Whether it and all it is based on can be read.
  bool restorable(const KeepFacts& set) const { return restorable_.contains(set.id); }

  // Chain numbers whose full set can be relied on, newest first.
  std::vector<std::uint32_t> complete_chains() const {
    std::vector<std::uint32_t> chains;
    for (const auto& [id, set] : sets_) {
      bool relied_on = set->sealed && set->verified && !set->damaged;
      if (id.link == 0 && set->kind == SetKind::kFull && relied_on) {
        chains.insert(chains.begin(), id.chain);
      }
    }
    return chains;
  }

  void keep_chain(std::uint32_t chain, KeptBy kept_by, const std::string& text) {
    for (const auto& [id, set] : sets_) {
      if (id.chain == chain) keep(id, kept_by, text);
    }
  }

  // What a set without a readable seal is based on, only its seal could tell; and what is based on
  // it can be read again once the seal is put back.
  void keep_chains_of_unsealed() {
    for (const auto& [id, set] : sets_) {
      if (set->sealed) continue;
      keep_chain(id.chain, KeptBy::kDamage,
                 "it may lean on " + id.to_string() + ", or that on it, whose seal cannot be read");
    }
  }

  void keep_chains() {
    std::vector<std::uint32_t> complete = complete_chains();
    if (sets_.empty()) return;
    keep_chain(sets_.rbegin()->first.chain, KeptBy::kNewest, "it belongs to the newest chain");
    if (complete.empty()) {
      bool damage = std::any_of(sets_.begin(), sets_.end(),
                                [](const auto& entry) { return entry.second->damaged; });
      return keep_all(KeptBy::kNewest, damage ? "no chain here is known to be whole"
                                              : "no chain here has been read back yet");
    }
    // What nothing complete has followed is not replaced.
    for (const auto& [id, set] : sets_) {
      if (id.chain > complete[0]) keep(id, KeptBy::kNewest, "no complete chain is newer");
    }
    unsigned promised = input_.depth < Depth::kBreakChains ? std::max(1u, input_.policy.chains) : 1;
    for (std::size_t i = 0; i < complete.size() && i < promised; ++i) {
      if (i == 0) {
        keep_chain(complete[i], KeptBy::kNewest, "it belongs to the newest complete chain");
      } else {
        keep_chain(complete[i], KeptBy::kChains,
                   fmt::format("{} complete chains are promised (chains)", input_.policy.chains));
      }
    }
    for (std::uint32_t chain : input_.only_here) {
      keep_chain(chain, KeptBy::kOnlyHere, "files that could not be read since are only here");
    }
    if (input_.lacking_unknown) {
      keep_all(KeptBy::kOnlyHere,
               "what the newest set does not hold was not compared with what was held before");
    }
  }

  void keep_young() {
    for (const auto& [id, set] : sets_) {
      if (!set->sealed) continue;  // kept as damage
      Nanos age = age_of(*set);
      // Also one that lacks its base: that may be found again, and what it holds be rescued.
      if (age < input_.policy.keep_for) {
        keep(id, KeptBy::kFor,
             fmt::format("{}; {} are promised (for)", age_in_words(age),
                         format_duration(input_.policy.keep_for)));
      }
    }
  }

  // Of each period the full set that stands there, since it needs nothing else; otherwise the
  // earliest, which needs least.
  void keep_thinned() {
    Zone zone = Zone::local();
    for (const ThinRule& rule : input_.policy.thin) {
      std::int64_t now = period_of(rule.unit, input_.now, zone);
      // Where a clock was wrong, whether this set's or another's, nobody can say which of two
      // stands for a period: each way of counting has one of its own, by the time in its seal.
      std::map<std::pair<std::int64_t, bool>, const KeepFacts*> chosen;
      for (const auto& [id, set] : sets_) {
        if (!restorable(*set)) continue;
        std::int64_t period = period_of(rule.unit, set->taken, zone);
        if (period > now || now - period >= static_cast<std::int64_t>(rule.count)) continue;
        bool corrected = taken_.at(id) != set->taken;
        auto& best = chosen[{period, corrected}];
        bool better = best == nullptr ||
                      (set->kind == SetKind::kFull && best->kind != SetKind::kFull) ||
                      (set->kind == best->kind && set->id < best->id);
        if (better) best = set;
      }
      for (const auto& [period, set] : chosen) {
        keep(set->id, KeptBy::kThin,
             fmt::format("the one of its {} ({})", unit_name(rule.unit), rule.text()));
      }
    }
  }

  void keep_bases() {
    // From the newest back, so that what is kept here keeps its own base in turn.
    std::map<SetId, std::uint64_t> leaning;
    for (auto it = sets_.rbegin(); it != sets_.rend(); ++it) {
      const KeepFacts& set = *it->second;
      if (!reasons_.contains(set.id) || !set.based_on || !sets_.contains(*set.based_on)) continue;
      keep(*set.based_on, KeptBy::kBase, "");
      leaning[*set.based_on] += 1 + leaning[set.id];
    }
    for (auto& [id, reason] : reasons_) {
      if (reason.kept_by != KeptBy::kBase) continue;
      std::uint64_t count = leaning[id];
      reason.text = counted(count, "set") + (count == 1 ? " leans on it" : " lean on it");
    }
  }

  std::string reason_to_go(const KeepFacts& set) const {
    std::string age = age_in_words(age_of(set));
    if (!restorable(set)) return age + ", and a set that it needs is missing or damaged";
    bool whole_chain = std::none_of(sets_.begin(), sets_.end(), [&](const auto& entry) {
      return entry.first.chain == set.id.chain && reasons_.contains(entry.first);
    });
    bool broken = input_.depth != Depth::kKeepPromises && age_of(set) < input_.policy.keep_for;
    if (broken) return age + "; the promise is broken to make room";
    return whole_chain ? age + ", and so is its whole chain" : age + ", and no set leans on it";
  }

  const KeepInput& input_;
  std::map<SetId, const KeepFacts*> sets_;
  std::map<SetId, Nanos> taken_;
  std::map<SetId, Reason> reasons_;
  std::set<SetId> restorable_;
};

std::string chains_in_words(const std::set<std::uint32_t>& chains) {
  std::string text = chains.size() == 1 ? "chain " : "chains ";
  std::size_t i = 0;
  for (std::uint32_t chain : chains) {
    if (i > 0) text += i + 1 == chains.size() ? " and " : ", ";
    text += std::to_string(chain);
    ++i;
  }
  return text;
}

// Why nothing at all may go, whatever its age.
bool removal_blocked(const KeepInput& input) {
  return !input.policy.hold.empty() || !input.set_back.empty() ||
         std::any_of(input.sets.begin(), input.sets.end(),
                     [](const KeepFacts& set) { return set.suspect || set.unreadable; });
}

}  // namespace

std::optional<ThinRule> ThinRule::parse(std::string_view phrase) {
  std::vector<std::string> words = lower_words(phrase);
  // one a week for 8 weeks
  if (words.size() != 6 || words[3] != "for") return std::nullopt;
  if (words[0] != "one" && words[0] != "1") return std::nullopt;
  if (words[1] != "a" && words[1] != "per" && words[1] != "each") return std::nullopt;
  ThinRule rule;
  rule.count = parse_number(words[4], kMostPeriods).value_or(0);
  if (rule.count == 0) return std::nullopt;
  for (int i = 0; i < 4; ++i) {
    rule.unit = static_cast<Unit>(i);
    std::string name = unit_name(rule.unit);
    if (words[2] == name && (words[5] == name || words[5] == name + "s")) return rule;
  }
  return std::nullopt;
}

std::string ThinRule::text() const {
  return fmt::format("one a {} for {}", unit_name(unit), counted(count, unit_name(unit)));
}

std::vector<Verdict> decide_keep(const KeepInput& input) {
  return Keeper(input).decide();
}

std::map<SetId, Nanos> corrected_times(const std::vector<KeepFacts>& sets, Nanos now) {
  std::map<SetId, Nanos> times;
  for (const KeepFacts& set : sets) {
    if (set.sealed) times[set.id] = set.taken;
  }
  Nanos next = now;
  for (auto it = times.rbegin(); it != times.rend(); ++it) {
    if (it->second > now) {
      it->second = next;
    } else {
      next = it->second;
    }
  }
  const Nanos* before = nullptr;
  for (auto& [id, taken] : times) {
    if (before != nullptr) taken = std::max(taken, *before);
    before = &taken;
  }
  return times;
}

std::vector<std::uint32_t> replaced_damaged_chains(const KeepInput& input) {
  // No age decides here: a doubtful clock does not matter.
  if (removal_blocked(input) || input.lacking_unknown) return {};
  std::set<std::uint32_t> hurt, begun;
  for (const KeepFacts& set : input.sets) {
    if (!set.sealed || set.damaged) hurt.insert(set.id.chain);
    bool full = set.id.link == 0 && set.kind == SetKind::kFull;
    if (full && set.sealed && set.verified) begun.insert(set.id.chain);
  }
  for (std::uint32_t chain : hurt) begun.erase(chain);
  std::vector<std::uint32_t> replaced;
  for (std::uint32_t chain : hurt) {
    bool in_use = input.base_in_use && input.base_in_use->chain == chain;
    bool followed = !begun.empty() && chain < *begun.rbegin();
    if (followed && !in_use && !input.only_here.contains(chain)) replaced.push_back(chain);
  }
  return replaced;
}

bool pruning_blocked(const KeepInput& input) {
  return !input.clock_doubt.empty() || removal_blocked(input);
}

std::string explain_kept(const KeepInput& input) {
  if (!input.policy.hold.empty()) return "nothing is pruned: " + reason_of_hold(input.policy);
  for (const KeepFacts& set : input.sets) {
    if (set.unreadable) return "nothing is pruned: " + reason_of_unreadable(set.id);
  }
  for (const KeepFacts& set : input.sets) {
    if (set.suspect) return "nothing is pruned: " + reason_of_suspect(set.id);
  }
  if (!input.set_back.empty()) return "nothing is pruned: " + input.set_back;
  if (!input.clock_doubt.empty()) return "nothing is pruned: " + input.clock_doubt;
  std::map<KeptBy, std::set<std::uint32_t>> chains;
  for (const Verdict& verdict : decide_keep(input))
    chains[verdict.kept_by].insert(verdict.id.chain);
  std::string thin;
  for (const ThinRule& rule : input.policy.thin) {
    thin += (thin.empty() ? "\"" : ", \"") + rule.text() + "\"";
  }
  std::string text;
  for (const auto& [kept_by, promise] :
       {std::pair{KeptBy::kFor, "\"for = " + format_duration(input.policy.keep_for) + "\""},
        std::pair{KeptBy::kChains, fmt::format("\"chains = {}\"", input.policy.chains)},
        std::pair{KeptBy::kThin, "\"thin = [" + thin + "]\""}}) {
    if (chains[kept_by].empty()) continue;
    text +=
        (text.empty() ? "" : "; ") + promise + " still needs " + chains_in_words(chains[kept_by]);
  }
  if (!chains[KeptBy::kOnlyHere].empty()) {
    text += (text.empty() ? "" : "; ") + chains_in_words(chains[KeptBy::kOnlyHere]) +
            " has files that could not be read since";
  }
  if (!chains[KeptBy::kDamage].empty()) {
    text += (text.empty() ? "" : "; ") + chains_in_words(chains[KeptBy::kDamage]) +
            " holds damage, which a person must delete";
  }
  return text.empty() ? "only the newest complete chain is left, and that never goes" : text;
}

std::string doubt_of_clock(const std::vector<KeepFacts>& sets, Nanos now, Nanos interval,
                           std::optional<SetId> confirmed, bool clock_is_right) {
  std::vector<KeepFacts> ordered = sets;
  std::erase_if(ordered, [](const KeepFacts& set) { return !set.sealed; });
  std::sort(ordered.begin(), ordered.end(),
            [](const KeepFacts& a, const KeepFacts& b) { return a.id < b.id; });
  Nanos most = std::max(kLongGap, kManyIntervals * std::clamp<Nanos>(interval, 0, 400 * kDay));
  const KeepFacts* previous = nullptr;
  auto doubt = [&](Nanos later, Nanos slack) -> std::string {
    if (previous == nullptr) return "";
    if (later < previous->taken - slack) {
      return fmt::format("the clock makes no sense: {} is of {}, and then came {}",
                         previous->id.to_string(), format_local(previous->taken),
                         format_local(later));
    }
    if (later - previous->taken > most && !clock_is_right) {
      return fmt::format("the clock may be wrong: after {} of {} came {}", previous->id.to_string(),
                         format_local(previous->taken), format_local(later));
    }
    return "";
  };
  for (const KeepFacts& set : ordered) {
    bool known = confirmed && !(*confirmed < set.id);
    if (!known) {
      std::string text = doubt(set.taken, kCorrection);
      if (!text.empty()) return text;
    }
    previous = &set;
  }
  return doubt(now, 0);
}

}  // namespace kestrum
