#include "kestrum/inspect/losses.h"

#include <algorithm>

#include "kestrum/base/error.h"

namespace kestrum {
namespace {

class Search {
 public:
  Search(Index& index, const DamagedBy& damaged_by) : index_(index), damaged_by_(damaged_by) {
    std::vector<IndexedSet> sets = index.sets();
    for (const IndexedSet& set : sets) {
      try {
        ancestors_[set.set] = ancestors_of(set.set, sets);
      } catch (const Error&) {
        // It lacks its base, and is no restore point.
      }
    }
  }

  Losses run(const std::vector<SetId>& damaged_sets) {
    for (SetId set : damaged_sets) {
      std::vector<SetId> leaning = leaning_on(set);
      index_.each_located(set, [&](const PathVersion& version, const ContentLocation& location) {
        // What lies in several of them, piece by piece, is told of once.
        auto first = std::find_if(damaged_sets.begin(), damaged_sets.end(),
                                  [&](SetId of) { return location.lies_in(of); });
        if (*first != set) return;
        auto damage = damaged_by_(location, version.entry.line.entry.size);
        if (damage) tell(version, location.set, leaning, *damage);
      });
    }
    for (auto& [damage, losses] : result_.by_damage) {
      std::sort(losses.begin(), losses.end(), [](const Loss& a, const Loss& b) {
        return a.path != b.path ? a.path < b.path : a.first < b.first;
      });
    }
    return std::move(result_);
  }

 private:
  std::vector<SetId> leaning_on(SetId set) const {
    std::vector<SetId> points;
    for (const auto& [point, ancestors] : ancestors_) {
      if (std::binary_search(ancestors.begin(), ancestors.end(), set.sequence())) {
        points.push_back(point);
      }
    }
    return points;
  }

  static bool holds_at(const PathVersion& version, SetId point) {
    return !(point < version.first) && (!version.until || point < *version.until);
  }

  void tell(const PathVersion& version, SetId set, const std::vector<SetId>& leaning,
            std::size_t damage) {
    std::vector<SetId> points;
    for (SetId point : leaning) {
      if (!holds_at(version, point)) continue;
      auto used = index_.location_of(version.entry.version, ancestors_.at(point));
      if (used && used->set == set) points.push_back(point);
    }
    add(version.entry.line.entry.path, damage, points);
  }

  void add(const std::string& path, std::size_t damage, const std::vector<SetId>& points) {
    if (points.empty()) return;
    result_.by_damage[damage].push_back({"/" + path, points.front(), points.back(), points.size()});
    for (SetId point : points) ++result_.at[point];
  }

  Index& index_;
  const DamagedBy& damaged_by_;
  std::map<SetId, std::vector<std::int64_t>> ancestors_;
  Losses result_;
};

}  // namespace

Losses find_losses(Index& index, const std::vector<SetId>& damaged_sets,
                   const DamagedBy& damaged_by) {
  return Search(index, damaged_by).run(damaged_sets);
}

}  // namespace kestrum
