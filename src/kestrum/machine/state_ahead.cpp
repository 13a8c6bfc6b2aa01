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

bool StateAhead::read(Ahead<IndexEntry>::Batch& batch) {
  if (!cursor_) cursor_.emplace(reader_->state_at(set_));
  while (batch.size() < kEntries) {
    if (cursor_->next(batch.add())) continue;
    batch.drop_last();
    return false;
  }
  return true;
}

}  // namespace kestrum
