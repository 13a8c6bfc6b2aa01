// Recovery: what this PC remembers of a shelf, its index and its record, is brought in line with
// what was committed.
#pragma once

#include "kestrum/access/open_shelf.h"
#include "kestrum/machine/index.h"

namespace kestrum {

// Finishes what a crash left half done: removals and renames on the shelf, a set that was sealed
// before the index took it in, sets that were pruned before the index was told. Afterwards nothing
// is pending: the seal alone decided. The state needed: the job's lock is held.
void recover_shelf(OpenShelf& open, Index& index);

// Remembers that this set is the shelf's newest.
void record_newest(OpenShelf& open, const ShelfSet& set);

}  // namespace kestrum
