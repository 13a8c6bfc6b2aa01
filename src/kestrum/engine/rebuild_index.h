// Reading the ledgers of a shelf into an index.
#pragma once

#include <span>

#include "kestrum/engine/observer.h"
#include "kestrum/shelf/index.h"
#include "kestrum/shelf/shelf.h"

namespace kestrum {

// Opens the ledger of a set. Throws Error(kDamage) if it is not the one the seal names.
LedgerReader open_ledger(const Shelf& shelf, const ShelfSet& set,
                         std::span<const Identity> identities);

struct RebuildResult {
  std::vector<std::string> problems;  // sets whose ledger could not be read, and why
};

// Adds the sets that `index` does not know. A set whose ledger cannot be read is left out, and with
// it those based on it.
RebuildResult update_index(const Shelf& shelf, Index& index, std::span<const Identity> identities,
                           Observer& observer);

// Whether the index knows the shelf's newest set under the digest of its seal.
bool index_matches(const Shelf& shelf, Index& index);

}  // namespace kestrum
