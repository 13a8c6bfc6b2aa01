#include "kestrum/chain/trend.h"

#include <algorithm>
#include <cmath>
#include <optional>

namespace kestrum {
namespace {

constexpr std::size_t kMost = 28;        // sets that count
constexpr std::size_t kLeastPart = 3;    // values on either side of a change of level
constexpr std::size_t kLeastLine = 6;    // values that a growth is told from
constexpr double kFading = 0.92;         // weight of a value beside that of the next
constexpr double kPlainly = 0.6;         // Kendall's tau of values that grow
constexpr double kTellingGrowth = 0.01;  // of what full sets saw, from the first to the last
constexpr double kLeastMeanError = 0.1;  // of a mean of few values

// Where the values after the last plain change of level begin: the gap between the two parts is
// wider than either part.
std::size_t after_last_shift(const std::vector<double>& values) {
  for (std::size_t cut = values.size(); cut-- > 0;) {
    if (cut < kLeastPart || values.size() - cut < kLeastPart) continue;
    auto at = values.begin() + static_cast<std::ptrdiff_t>(cut);
    auto [old_least, old_most] = std::minmax_element(values.begin(), at);
    auto [new_least, new_most] = std::minmax_element(at, values.end());
    double gap = std::max(*new_least - *old_most, *old_least - *new_most);
    if (gap > 0 && gap > std::max(*old_most - *old_least, *new_most - *new_least)) return cut;
  }
  return 0;
}

// The mean, the latest counting most, and about two standard errors of it.
Spread faded_mean(const std::vector<double>& values) {
  double sum = 0, weights = 0, squares = 0, weight = 1;
  for (auto value = values.rbegin(); value != values.rend(); ++value, weight *= kFading) {
    sum += weight * *value;
    weights += weight;
  }
  Spread mean{sum / weights, 0};
  weight = 1;
  for (auto value = values.rbegin(); value != values.rend(); ++value, weight *= kFading) {
    squares += weight * (*value - mean.value) * (*value - mean.value);
  }
  double deviation = std::sqrt(squares / weights);
  mean.error = std::max(2 * deviation / std::sqrt(static_cast<double>(values.size())),
                        kLeastMeanError * std::abs(mean.value));
  return mean;
}

// The slope for each step (Sen 1968: the median of all slopes), if the values plainly grow or
// shrink.
std::optional<double> plain_slope(const std::vector<double>& values) {
  if (values.size() < kLeastLine) return std::nullopt;
  std::vector<double> slopes;
  int agree = 0;
  for (std::size_t i = 0; i < values.size(); ++i) {
    for (std::size_t j = i + 1; j < values.size(); ++j) {
      slopes.push_back((values[j] - values[i]) / static_cast<double>(j - i));
      agree += values[j] > values[i] ? 1 : values[j] < values[i] ? -1 : 0;
    }
  }
  if (std::abs(agree) < kPlainly * static_cast<double>(slopes.size())) return std::nullopt;
  auto middle = slopes.begin() + static_cast<std::ptrdiff_t>(slopes.size() / 2);
  std::nth_element(slopes.begin(), middle, slopes.end());
  return *middle;
}

// One jump that is more than all the rest together is no trend.
void drop_single_jump(std::vector<double>& values) {
  if (values.size() < 2 * kLeastPart) return;
  auto by_size = [](double a, double b) { return std::abs(a) < std::abs(b); };
  auto largest = std::max_element(values.begin(), values.end(), by_size);
  double rest = 0;
  for (auto value = values.begin(); value != values.end(); ++value) {
    if (value != largest) rest += std::abs(*value);
  }
  if (std::abs(*largest) > rest) values.erase(largest);
}

void learn_dependents(const std::vector<PastSet>& past, Trend& trend) {
  std::vector<double> sizes;
  std::vector<const PastSet*> sets;
  for (const PastSet& set : past) {
    if (set.kind == SetKind::kFull) continue;
    unsigned links = set.kind == SetKind::kDifferential ? std::max(1U, set.link) : 1;
    sizes.push_back(static_cast<double>(set.stored) / links);
    sets.push_back(&set);
  }
  if (sizes.empty()) return;
  trend.dependent_known = true;
  auto cut = static_cast<std::ptrdiff_t>(after_last_shift(sizes));
  sizes.erase(sizes.begin(), sizes.begin() + cut);
  sets.erase(sets.begin(), sets.begin() + cut);
  trend.dependent = faded_mean(sizes);
  if (auto slope = plain_slope(sizes)) {
    trend.dependent_growth = *slope;
    // The line goes through the middle of the values; the next set is half of them and one further.
    double middle = 0;
    for (double size : sizes) middle += size / static_cast<double>(sizes.size());
    double ahead = static_cast<double>(sizes.size() + 1) / 2;
    trend.dependent.value = std::max(0.0, middle + *slope * ahead);
  }
  double copied = 0, stored = 0, weight = 1;
  for (auto set = sets.rbegin(); set != sets.rend(); ++set, weight *= kFading) {
    copied += weight * static_cast<double>((*set)->copied);
    stored += weight * static_cast<double>((*set)->stored);
  }
  if (copied > 0) trend.new_ratio = stored / copied;
}

void learn_growth_of_fulls(const std::vector<PastSet>& past, Trend& trend) {
  const PastSet *first = nullptr, *last = nullptr;
  for (const PastSet& set : past) {
    if (set.kind != SetKind::kFull) continue;
    if (first == nullptr) first = &set;
    last = &set;
  }
  if (first == last) return;
  double seen = static_cast<double>(last->seen) - static_cast<double>(first->seen);
  double stored = static_cast<double>(last->stored) - static_cast<double>(first->stored);
  if (seen < kTellingGrowth * static_cast<double>(last->seen)) return;
  trend.growth_ratio = std::clamp(stored / seen, 0.0, 1.1);
}

void learn_growth(const std::vector<PastSet>& past, Trend& trend) {
  std::vector<double> grown;
  for (std::size_t i = 1; i < past.size(); ++i) {
    grown.push_back(static_cast<double>(past[i].seen) - static_cast<double>(past[i - 1].seen));
  }
  if (grown.size() < 2) return;
  std::size_t cut = after_last_shift(grown);
  grown.erase(grown.begin(), grown.begin() + static_cast<std::ptrdiff_t>(cut));
  double days =
      static_cast<double>(past.back().taken - past[cut].taken) / static_cast<double>(kDay);
  double each = days / static_cast<double>(grown.size());
  if (each <= 0) return;
  learn_growth_of_fulls({past.begin() + static_cast<std::ptrdiff_t>(cut), past.end()}, trend);
  // That what came once may come again is what it can be off by.
  Spread with_jump = faded_mean(grown);
  drop_single_jump(grown);
  Spread a_run = faded_mean(grown);
  a_run.error = std::max(a_run.error, std::abs(with_jump.value - a_run.value));
  trend.growth_known = true;
  trend.seen_growth = {a_run.value / each, a_run.error / each};
}

}  // namespace

Trend trend_of(const std::vector<PastSet>& all) {
  std::size_t first = all.size() > kMost ? all.size() - kMost : 0;
  std::vector<PastSet> past(all.begin() + static_cast<std::ptrdiff_t>(first), all.end());
  Trend trend;
  learn_dependents(past, trend);
  std::erase_if(past, [](const PastSet& set) { return set.seen == 0; });
  learn_growth(past, trend);
  for (const PastSet& set : all) {
    if (set.kind != SetKind::kFull || set.seen == 0) continue;
    trend.full_ratio = static_cast<double>(set.stored) / static_cast<double>(set.seen);
  }
  if (!trend.dependent_known) trend.new_ratio = trend.full_ratio;
  return trend;
}

}  // namespace kestrum
