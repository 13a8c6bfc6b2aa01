#include "kestrum/machine/state_ahead.h"

#include <utility>

namespace kestrum {
namespace {

constexpr std::size_t kEntries = 512;  // in a batch
constexpr std::size_t kBatches = 4;    // that wait at most

}  // namespace

StateAhead::StateAhead(std::unique_ptr<Index> reader, SetId set)
    : reader_(std::move(reader)),
      set_(set),
      ahead_([this](auto& batch) { return read(batch); }, kBatches) {}

bool StateAhead::read(std::vector<IndexEntry>& batch) {
  if (!cursor_) cursor_.emplace(reader_->state_at(set_));
  batch.reserve(kEntries);
  while (batch.size() < kEntries) {
    IndexEntry entry;
    if (!cursor_->next(entry)) return false;
    batch.push_back(std::move(entry));
  }
  return true;
}

}  // namespace kestrum
