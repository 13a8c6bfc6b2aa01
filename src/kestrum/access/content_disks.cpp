#include "kestrum/access/content_disks.h"

#include <algorithm>

namespace kestrum {
namespace {

// Bytes of a tar entry's headers, but for rare ones.
constexpr std::uint64_t kLongestHead = 64 << 10;

void add_stretches(const Shelf& shelf, SetId id, std::uint64_t begin, std::uint64_t end,
                   std::vector<StreamStretch>& stretches) {
  const ShelfSet* set = shelf.find(id);
  if (set == nullptr || !set->sealed()) return;
  const std::vector<PartInfo>& parts = set->seal.parts;
  auto part = std::upper_bound(
      parts.begin(), parts.end(), begin,
      [](std::uint64_t value, const PartInfo& info) { return value < info.tar_offset; });
  if (part != parts.begin()) --part;
  for (; part != parts.end() && part->tar_offset < end; ++part) {
    const EarlierDisk* earlier = shelf.lies_on(set->seal, *part);
    std::uint64_t disk = earlier != nullptr ? earlier->number : shelf.label().moves;
    std::uint64_t part_end = part + 1 == parts.end() ? end : (part + 1)->tar_offset;
    StreamStretch next{id, std::max(begin, part->tar_offset), std::min(end, part_end), disk};
    bool goes_on = !stretches.empty() && stretches.back().set == id &&
                   stretches.back().disk == disk && stretches.back().end == next.begin;
    if (goes_on) {
      stretches.back().end = next.end;
    } else {
      stretches.push_back(next);
    }
  }
}

}  // namespace

std::vector<StreamStretch> stretches_of(const Shelf& shelf, const ContentLocation& location,
                                        std::uint64_t size) {
  std::vector<StreamStretch> stretches;
  if (location.ranges.empty()) {
    std::uint64_t begin = location.tar_offset;
    add_stretches(shelf, location.set, begin, begin + kLongestHead + size, stretches);
    return stretches;
  }
  for (const ContentRange& range : location.ranges) {
    if (range.hole || !range.set) continue;
    std::uint64_t content = range.entry + range.offset;
    add_stretches(shelf, *range.set, range.entry, range.entry + kLongestHead, stretches);
    add_stretches(shelf, *range.set, content, content + kLongestHead + range.length, stretches);
  }
  return stretches;
}

std::set<std::uint64_t> disks_of(const Shelf& shelf, const ContentLocation& location,
                                 std::uint64_t size) {
  std::set<std::uint64_t> disks;
  for (const StreamStretch& stretch : stretches_of(shelf, location, size)) {
    disks.insert(stretch.disk);
  }
  return disks;
}

bool is_at_hand(const OpenShelf& open, const ContentLocation& location, std::uint64_t size) {
  if (!open.earlier) return true;
  std::set<std::uint64_t> disks = disks_of(open.shelf, location, size);
  std::set<std::uint64_t> there = open.earlier->plugged_in();
  return std::includes(there.begin(), there.end(), disks.begin(), disks.end());
}

}  // namespace kestrum
