#include "kestrum/engine/settle_books.h"

#include <algorithm>

namespace kestrum {
namespace {

// Sets that were pruned before the index was told. Numbers below the newest are never used again.
void forget_what_is_gone(const Shelf& shelf, Index& index) {
  std::vector<SetId> gone;
  for (const IndexedSet& known : index.sets()) {
    const ShelfSet* newest = shelf.newest();
    if (newest != nullptr && known.set < newest->id && shelf.find(known.set) == nullptr) {
      gone.push_back(known.set);
    }
  }
  index.forget(gone);
}

// A full set starts a chain without the files that could not be read: the last full set that has
// them is held until they are back.
void hold_what_it_lacks(const Shelf& shelf, Pin& pin, const ShelfSet& full) {
  auto lacks = [](const Seal& seal) { return seal.files.absent + seal.files.failed > 0; };
  if (!lacks(full.seal)) {
    if (full.seal.files.seen >= pin.held_files) pin.held_full.reset();
    return;
  }
  if (pin.held_full) return;
  for (const ShelfSet& set : shelf.sets()) {
    if (!set.sealed() || set.seal.kind != SetKind::kFull || lacks(set.seal)) continue;
    pin.held_full = set.id;
    pin.held_files = set.seal.files.seen;
  }
}

}  // namespace

void settle_books(OpenShelf& open, Index& index) {
  Shelf& shelf = open.shelf;
  index.forget(shelf.removals());
  shelf.finish_renames();
  forget_what_is_gone(shelf, index);
  auto pending = index.pending();
  if (!pending) return;
  const ShelfSet* set = shelf.find(pending->set);
  if (set != nullptr && set->sealed() && set->seal.ledger_digest == pending->ledger_digest) {
    index.apply_pending(set->seal_digest);
    pin_newest(open, *set);
  } else {
    index.drop_pending();
  }
}

void pin_newest(OpenShelf& open, const ShelfSet& set) {
  open.state->update_pin([&](Pin& pin) {
    pin.newest_set = set.id;
    pin.newest_seal = set.seal_digest;
    pin.highest_chain = std::max(pin.highest_chain, set.id.chain);
    if (set.seal.kind != SetKind::kFull) return;
    pin.full_because.clear();
    hold_what_it_lacks(open.shelf, pin, set);
  });
}

}  // namespace kestrum
