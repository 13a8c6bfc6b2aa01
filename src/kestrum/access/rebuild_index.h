// Reading the ledgers of a shelf into an index.
#pragma once

#include <span>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/observer.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/machine_state.h"
#include "kestrum/shelf/shelf.h"

namespace kestrum {

// Opens the ledger of a set. Throws Error(kDamage) if it is not the one the seal names.
LedgerReader open_ledger(const Shelf& shelf, const ShelfSet& set,
                         std::span<const Identity> identities);

struct RebuildResult {
  std::vector<std::string> problems;  // sets whose ledger could not be read, and why
  // Sets of which the names in their tars alone are known; see tar_names.h.
  std::vector<SetId> names_only;
};

// What to do where both copies of a ledger are lost.
enum class LostLedger { kLeaveOut, kNamesFromTar };

// Adds the sets that `index` does not know. A set whose ledger cannot be read is left out, and with
// it those based on it.
RebuildResult update_index(const Shelf& shelf, Index& index, std::span<const Identity> identities,
                           Observer& observer, LostLedger lost = LostLedger::kLeaveOut);

// Whether the index took in this very set: by the digests of its seal and its ledger. How many rows
// the ledger has is compared when a set is taken in.
bool index_holds(Index& index, const ShelfSet& set);

// Whether the next set can be worked out from the index: its newest set is the shelf's, and it
// holds all that this one is based on.
bool index_matches(const Shelf& shelf, Index& index);

// Why a suspect set is so, in words, as its ledger has it, from this PC's index.
std::string why_suspect(const OpenShelf& open, const ShelfSet& set);

// The sets that could be restored from and that the index does not hold. Those whose ledger is
// known to be damaged are not asked for.
std::vector<SetId> sets_not_indexed(const Shelf& shelf, Index& index,
                                    const std::vector<KnownDamage>& damage);

// Index::check against the ledgers of the shelf: what the index claims and the shelf does not bear
// out. That it lacks sets is no difference.
std::vector<std::string> check_index(const Shelf& shelf, Index& index,
                                     std::span<const Identity> identities);

}  // namespace kestrum
