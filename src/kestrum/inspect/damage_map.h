// Where content cannot be read back, and which damage that comes of.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <tuple>
#include <vector>

#include "kestrum/shelf/damaged_content.h"

namespace kestrum {

// Damage goes by its number in the caller's list.
class DamageMap {
 public:
  // All that lies in a set: it has no readable seal, or is not there though others are based on it.
  void add_set(SetId set, std::size_t damage);
  // What lies in part number `part`, from 0, of a set.
  void add_part(const Seal& seal, std::size_t part, std::size_t damage);
  // One content, that was read and is not right.
  void add_content(const ContentLocation& location, std::size_t damage);
  // Every content of the set was read: what was not added is sound, whatever its part looks like.
  void read_all_of(SetId set) { read_.insert(set); }

  // Of a content of `size` bytes; nothing if it is sound.
  std::optional<std::size_t> damage_of(const ContentLocation& location, std::uint64_t size) const;
  // The same of a content that was added by itself.
  std::optional<std::size_t> damage_of_content(const ContentLocation& location) const;
  // Of the sets that anything was added of.
  const std::set<SetId>& sets() const { return touched_; }

 private:
  std::map<SetId, std::size_t> sets_;
  // By set, tar offset and path, of which the last tells apart what lies piece by piece.
  std::map<std::tuple<std::int64_t, std::uint64_t, std::string>, std::size_t> contents_;
  DamagedContent parts_;
  std::vector<std::size_t> damage_of_part_;  // of each stretch of parts_
  std::set<SetId> read_, touched_;
};

}  // namespace kestrum
