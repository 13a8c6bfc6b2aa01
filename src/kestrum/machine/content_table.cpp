#include "kestrum/machine/content_table.h"

#include <algorithm>
#include <limits>

namespace kestrum {
namespace {

// Of splitmix64: every bit of the result depends on every bit of the number.
std::uint64_t mixed(std::uint64_t number) {
  number = (number ^ number >> 30) * 0xbf58476d1ce4e5b9;
  number = (number ^ number >> 27) * 0x94d049bb133111eb;
  return number ^ number >> 31;
}

std::uint64_t of_time(std::uint64_t size, std::uint64_t time) {
  return mixed(mixed(size + 1) ^ time);
}

}  // namespace

void ContentTable::put(const Digest& digest, std::uint64_t besides, std::int64_t row) {
  if (row <= 0 || row > std::numeric_limits<std::uint32_t>::max()) return;
  if (slots_.empty()) slots_.resize(kWays * kBuckets);
  std::uint64_t hash = mixed(get_le64(digest.data()) ^ besides);
  Slot* bucket = &slots_[hash % kBuckets * kWays];
  std::move_backward(bucket, bucket + kWays - 1, bucket + kWays);
  *bucket = {static_cast<std::uint32_t>(hash >> 32), static_cast<std::uint32_t>(row)};
}

std::optional<std::int64_t> ContentTable::find(const Digest& digest, std::uint64_t besides) const {
  if (slots_.empty()) return std::nullopt;
  std::uint64_t hash = mixed(get_le64(digest.data()) ^ besides);
  const Slot* bucket = &slots_[hash % kBuckets * kWays];
  for (const Slot* slot = bucket; slot != bucket + kWays; ++slot) {
    if (slot->row != 0 && slot->tag == static_cast<std::uint32_t>(hash >> 32)) return slot->row;
  }
  return std::nullopt;
}

void ContentTable::note_size(std::uint64_t size, std::uint64_t time) {
  if (sizes_.empty()) sizes_.resize(kSizeBits / 64);
  for (std::uint64_t hash : {mixed(size), of_time(size, time)}) {
    for (std::uint64_t bit : {hash % kSizeBits, (hash >> 32) % kSizeBits}) {
      sizes_[bit / 64] |= std::uint64_t{1} << (bit % 64);
    }
  }
}

bool ContentTable::has_size(std::uint64_t size, std::optional<std::uint64_t> time) const {
  if (sizes_.empty()) return false;
  std::uint64_t hash = time ? of_time(size, *time) : mixed(size);
  auto is_set = [&](std::uint64_t bit) { return (sizes_[bit / 64] >> (bit % 64) & 1) != 0; };
  return is_set(hash % kSizeBits) && is_set((hash >> 32) % kSizeBits);
}

void ContentTable::clear() {
  slots_.clear();
  sizes_.clear();
}

}  // namespace kestrum
