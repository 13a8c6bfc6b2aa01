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
  record_newest(open, *set);
}

}  // namespace

void recover_shelf(OpenShelf& open, Index& index) {
  Shelf& shelf = open.shelf;
  index.forget(shelf.removals());
  shelf.finish_renames();
  forget_what_is_gone(shelf, index);
  settle_pending(open, index);
  // A run may have ended between the index and the record.
  const ShelfSet* newest = shelf.newest();
  const std::optional<SetId>& pinned = open.state->record.newest.set;
  bool behind = newest != nullptr && (!pinned || *pinned < newest->id);
  if (behind && index_holds(index, *newest)) record_newest(open, *newest);
}

void record_newest(OpenShelf& open, const ShelfSet& set) {
  open.state->update_record([&](ShelfRecord& record) {
    record.newest.set = set.id;
    record.newest.seal = set.seal_digest;
    record.newest.number = std::max(record.newest.number, set.seal.number);
    record.newest.highest_chain = std::max(record.newest.highest_chain, set.id.chain);
    if (set.seal.kind == SetKind::kFull) record.full_because.clear();
  });
}

}  // namespace kestrum
