#include "kestrum/shelf/damaged_content.h"

#include <algorithm>
#include <limits>

namespace kestrum {
namespace {

// Extended headers and sparse maps are seldom longer.
constexpr std::uint64_t kHeadRoom = 8 << 10;
// The longest sparse map, behind which a range lies.
constexpr std::uint64_t kMapRoom = 4 << 20;

}  // namespace

void DamagedContent::add(const Seal& seal, std::size_t part) {
  std::uint64_t to = part + 1 < seal.parts.size() ? seal.parts[part + 1].tar_offset
                                                  : std::numeric_limits<std::uint64_t>::max();
  spans_.push_back({seal.set, seal.parts[part].tar_offset, to});
}

ContentLocation location_by(const LedgerEntry& line, SetId set) {
  ContentLocation location{line.in_set.value_or(set), line.tar_offset.value_or(0),
                           line.in_path.value_or(line.entry.path), line.ranges};
  name_set(location.ranges, set);
  return location;
}

bool ContentLocation::lies_in(SetId of) const {
  if (ranges.empty()) return set == of;
  return std::any_of(ranges.begin(), ranges.end(), [&](const ContentRange& range) {
    return !range.hole && range.set.value_or(set) == of;
  });
}

std::optional<std::size_t> DamagedContent::reached_by(const ContentRange& range) const {
  if (range.hole) return std::nullopt;
  std::uint64_t from = range.entry + range.offset, to = from + range.length + kMapRoom;
  for (std::size_t i = 0; i < spans_.size(); ++i) {
    const Span& damaged = spans_[i];
    bool of_its_head = range.entry < damaged.to && damaged.from < range.entry + kHeadRoom;
    bool of_it = from < damaged.to && damaged.from < to;
    if (damaged.set == range.set && (of_its_head || of_it)) return i;
  }
  return std::nullopt;
}

std::optional<std::size_t> DamagedContent::reached_by(const ContentLocation& location,
                                                      std::uint64_t size) const {
  if (spans_.empty()) return std::nullopt;
  for (const ContentRange& range : location.ranges) {
    if (auto found = reached_by(range)) return found;
  }
  if (!location.ranges.empty()) return std::nullopt;
  for (std::size_t i = 0; i < spans_.size(); ++i) {
    const Span& damaged = spans_[i];
    bool reaches = damaged.set == location.set && location.tar_offset < damaged.to &&
                   (location.tar_offset >= damaged.from ||
                    damaged.from - location.tar_offset < size + kHeadRoom);
    if (reaches) return i;
  }
  return std::nullopt;
}

}  // namespace kestrum
