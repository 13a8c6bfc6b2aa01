#include "kestrum/shelf/hurt_content.h"

#include <limits>

namespace kestrum {
namespace {

// Extended headers and sparse maps are seldom longer.
constexpr std::uint64_t kHeadRoom = 8 << 10;

}  // namespace

void HurtContent::add(const Seal& seal, std::size_t part) {
  std::uint64_t to = part + 1 < seal.parts.size() ? seal.parts[part + 1].tar_offset
                                                  : std::numeric_limits<std::uint64_t>::max();
  stretches_.push_back({seal.set, seal.parts[part].tar_offset, to});
}

std::optional<std::size_t> HurtContent::reached_by(const ContentLocation& location,
                                                   std::uint64_t size) const {
  for (std::size_t i = 0; i < stretches_.size(); ++i) {
    const Stretch& hurt = stretches_[i];
    bool reaches =
        hurt.set == location.set && location.tar_offset < hurt.to &&
        (location.tar_offset >= hurt.from || hurt.from - location.tar_offset < size + kHeadRoom);
    if (reaches) return i;
  }
  return std::nullopt;
}

}  // namespace kestrum
