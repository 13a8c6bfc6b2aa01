#include "kestrum/backup/recovery.h"

#include <algorithm>

#include "kestrum/access/rebuild_index.h"

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

// The seal alone says whether the pending set is one.
void settle_pending(OpenShelf& open, Index& index) {
  auto pending = index.pending();
  if (!pending) return;
  const ShelfSet* set = open.shelf.find(pending->set);
  if (set == nullptr || !set->sealed() || set->seal.ledger_digest != pending->ledger_digest) {
    return index.drop_pending();
  }
  // The run that sealed it may not have come to where the disk is told to keep it.
  open.place->sync_folder(set->folder);
  open.place->sync_folder(kSetsFolder);
  try {
    index.apply_pending(set->seal_digest);
  } catch (const Error&) {
    // Its journal is not what it was: the set is one that the index does not know, and is read.
    return index.drop_pending();
  }
  pin_newest(open, *set);
}

}  // namespace

void settle_books(OpenShelf& open, Index& index) {
  Shelf& shelf = open.shelf;
  index.forget(shelf.removals());
  shelf.finish_renames();
  forget_what_is_gone(shelf, index);
  settle_pending(open, index);
  // A run may have ended between the index and the pin.
  const ShelfSet* newest = shelf.newest();
  const std::optional<SetId>& pinned = open.state->pin.newest_set;
  bool behind = newest != nullptr && (!pinned || *pinned < newest->id);
  if (behind && index_holds(index, *newest)) pin_newest(open, *newest);
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
