#include "kestrum/chain/outlook.h"

#include <algorithm>
#include <map>

namespace kestrum {
namespace {

constexpr Nanos kLate = 30 * kMinute;
// Beyond so many sets pruning is looked at less often; what stays longer only raises the peak.
constexpr std::size_t kManySets = 100;

class Simulation {
 public:
  explicit Simulation(const OutlookInput& input) : input_(input) {
    for (const KeepFacts& set : input.keep.sets) held_ += set.stored;
    sets_ = input.keep.sets;
    std::sort(sets_.begin(), sets_.end(),
              [](const KeepFacts& a, const KeepFacts& b) { return a.id < b.id; });
    at_first_ = held_;
    highest_chain_ = input.highest_chain;
  }

  Outlook run() {
    for (std::size_t i = 0; i < input_.runs.size(); ++i) {
      NextSet next = i == 0 && input_.next ? *input_.next : next_at(input_.runs[i]);
      std::uint64_t bytes = size_of(next, i);
      bool short_of_room = input_.free_bytes && held_ + bytes > at_first_ + *input_.free_bytes;
      if (short_of_room && input_.prunes) prune(input_.runs[i], false, next.based_on);
      add(next, input_.runs[i], bytes);
      note_peak(input_.runs[i]);
      outlook_.held.push_back(held_);
      bool full = input_.free_bytes && held_ > at_first_ + *input_.free_bytes;
      if (full && !outlook_.runs_that_fit) outlook_.runs_that_fit = i;
      std::size_t every = 1 + sets_.size() / kManySets;
      if (input_.prunes) {
        if (i % every != 0) continue;
        prune(input_.runs[i], i == 0, std::nullopt);
      }
      bool beyond = input_.at_most && held_ > *input_.at_most;
      if (beyond && !outlook_.runs_within_wish) outlook_.runs_within_wish = i;
    }
    extrapolate();
    return std::move(outlook_);
  }

 private:
  NextSet next_at(Nanos now) const {
    // Only the newest chain decides; the sets are in order.
    NextSetInput input;
    auto begin = sets_.end();
    while (begin != sets_.begin() && std::prev(begin)->id.chain == sets_.back().id.chain) --begin;
    std::map<SetId, bool> restorable;
    for (auto set = begin; set != sets_.end(); ++set) {
      if (!set->sealed) continue;
      auto base = set->based_on ? restorable.find(*set->based_on) : restorable.end();
      restorable[set->id] = !set->based_on || (base != restorable.end() && base->second);
      input.sets.push_back({set->id, set->kind, set->based_on, set->taken, restorable[set->id]});
    }
    input.highest_chain = highest_chain_;
    input.follows_full = input_.follows_full;
    input.new_full = input_.new_full;
    input.now = now;
    return next_set(input);
  }

  std::uint64_t size_of(const NextSet& next, std::size_t run) const {
    if (run == 0 && input_.next_bytes > 0) return input_.next_bytes;
    double days = static_cast<double>(input_.runs[run] - input_.runs[0]) / kDay;
    double full = std::max(0.0, static_cast<double>(input_.full_bytes) + input_.full_growth * days);
    if (next.kind == SetKind::kFull) return static_cast<std::uint64_t>(full);
    double each = std::max(0.0, static_cast<double>(input_.dependent_bytes) +
                                    input_.dependent_growth * static_cast<double>(run));
    if (next.kind == SetKind::kIncremental) return static_cast<std::uint64_t>(each);
    return static_cast<std::uint64_t>(std::min(full, each * next.id.link));
  }

  void add(const NextSet& next, Nanos now, std::uint64_t bytes) {
    KeepFacts set;
    set.id = next.id;
    set.kind = next.kind;
    set.based_on = next.based_on;
    set.taken = now;
    set.stored = bytes;
    sets_.push_back(set);
    held_ += bytes;
    highest_chain_ = std::max(highest_chain_, next.id.chain);
    if (next.kind != SetKind::kFull) {
      if (begun_) ++links_;
      return;
    }
    if (begun_) {
      outlook_.dependents = std::max(outlook_.dependents, links_);
      outlook_.full_interval = now - *begun_;
    }
    begun_ = now;
    links_ = 0;
  }

  void note_peak(Nanos now) {
    unsigned fulls = 0;
    for (const KeepFacts& set : sets_) fulls += set.kind == SetKind::kFull;
    outlook_.fulls_at_once = std::max(outlook_.fulls_at_once, fulls);
    if (held_ <= outlook_.most_held) return;
    outlook_.most_held = held_;
    outlook_.peak_at = now;
    outlook_.peak = held_ > at_first_ ? held_ - at_first_ : 0;
  }

  void prune(Nanos now, bool first, std::optional<SetId> base_in_use) {
    KeepInput keep = input_.keep;
    keep.sets = sets_;
    keep.base_in_use = base_in_use;
    keep.now = first ? now : now - kLate;
    for (const Verdict& verdict : decide_keep(keep)) {
      if (!verdict.goes) continue;
      if (first) outlook_.next_prunes.push_back(verdict.id);
      auto gone = std::find_if(sets_.begin(), sets_.end(),
                               [&](const KeepFacts& set) { return set.id == verdict.id; });
      held_ -= gone->stored;
      sets_.erase(gone);
    }
  }

  // What grows on beyond the last run looked at, at the rate of the second half.
  void extrapolate() {
    if (outlook_.runs_that_fit || !input_.free_bytes || input_.prunes || input_.runs.empty())
      return;
    std::uint64_t grown = (held_ - at_first_) / input_.runs.size();
    std::uint64_t left = at_first_ + *input_.free_bytes - held_;
    if (grown > 0) outlook_.runs_that_fit = input_.runs.size() + left / grown;
  }

  const OutlookInput& input_;
  Outlook outlook_;
  std::vector<KeepFacts> sets_;
  std::uint64_t held_ = 0, at_first_ = 0;
  std::uint32_t highest_chain_ = 0;
  std::optional<Nanos> begun_;
  unsigned links_ = 0;
};

}  // namespace

Outlook look_ahead(const OutlookInput& input) {
  return Simulation(input).run();
}

}  // namespace kestrum
