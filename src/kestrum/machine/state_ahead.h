// The state at a restore point, read by a thread of its own ahead of whoever asks for it.
#pragma once

#include <memory>
#include <optional>

#include "kestrum/base/ahead.h"
#include "kestrum/machine/index.h"

namespace kestrum {

// Reads by a connection of its own what was committed when it began. Its calls come from one
// thread.
class StateAhead {
 public:
  // `reader` is only used here from now on (Index::reader).
  StateAhead(std::unique_ptr<Index> reader, SetId set);

  // In path order; false at the end. Throws what reading the index throws.
  bool next(IndexEntry& entry) { return ahead_.next(entry); }

 private:
  bool read(Ahead<IndexEntry>::Batch& batch);

  std::unique_ptr<Index> reader_;
  SetId set_;
  std::optional<Index::Cursor> cursor_;
  Ahead<IndexEntry> ahead_;  // last: it works with the others
};

}  // namespace kestrum
