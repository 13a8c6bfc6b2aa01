#include "kestrum/shelf/damaged_content.h"

#include <limits>

namespace kestrum {
namespace {

// Extended headers and sparse maps are seldom longer.
constexpr std::uint64_t kHeadRoom = 8 << 10;

}  // namespace

void DamagedContent::add(const Seal& seal, std::size_t part) {
  std::uint64_t to = part + 1 < seal.parts.size() ? seal.parts[part + 1].tar_offset
                                                  : std::numeric_limits<std::uint64_t>::max();
  stretches_.push_back({seal.set, seal.parts[part].tar_offset, to});
}

std::optional<std::size_t> DamagedContent::reached_by(const ContentLocation& location,
                                                      std::uint64_t size) const {
  for (std::size_t i = 0; i < stretches_.size(); ++i) {
    const Stretch& damaged = stretches_[i];
    bool reaches = damaged.set == location.set && location.tar_offset < damaged.to &&
                   (location.tar_offset >= damaged.from ||
                    damaged.from - location.tar_offset < size + kHeadRoom);
    if (reaches) return i;
  }
  return std::nullopt;
}

}  // namespace kestrum
