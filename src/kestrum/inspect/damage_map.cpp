#include "kestrum/inspect/damage_map.h"

namespace kestrum {

void DamageMap::add_set(SetId set, std::size_t damage) {
  sets_.emplace(set, damage);
  touched_.insert(set);
}

void DamageMap::add_part(const Seal& seal, std::size_t part, std::size_t damage) {
  parts_.add(seal, part);
  damage_of_part_.push_back(damage);
  touched_.insert(seal.set);
}

void DamageMap::add_content(const ContentLocation& location, std::size_t damage) {
  contents_[{location.set.sequence(), location.tar_offset, location.path}] = damage;
  touched_.insert(location.set);
}

std::optional<std::size_t> DamageMap::damage_of_content(const ContentLocation& location) const {
  auto found = contents_.find({location.set.sequence(), location.tar_offset, location.path});
  return found == contents_.end() ? std::nullopt : std::optional(found->second);
}

std::optional<std::size_t> DamageMap::damage_of(const ContentLocation& location,
                                                std::uint64_t size) const {
  if (auto lost = sets_.find(location.set); lost != sets_.end()) return lost->second;
  for (const ContentRange& range : location.ranges) {
    if (range.hole || !range.set) continue;
    if (auto lost = sets_.find(*range.set); lost != sets_.end()) return lost->second;
  }
  if (auto found = damage_of_content(location)) return found;
  if (read_.contains(location.set)) return std::nullopt;
  auto stretch = parts_.reached_by(location, size);
  return stretch ? std::optional(damage_of_part_[*stretch]) : std::nullopt;
}

}  // namespace kestrum
