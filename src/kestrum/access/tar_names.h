// What the tar of a set tells of it where both copies of its ledger are lost: names, metadata and
// content of what is in it. What its ledger said besides is not known: deletions, moves, entries
// that do not count, files whose content lies in earlier sets, ACLs.
#pragma once

#include <cstdint>
#include <span>
#include <string>

#include "kestrum/base/observer.h"
#include "kestrum/machine/index.h"
#include "kestrum/shelf/shelf.h"

namespace kestrum {

struct TarNames {
  std::uint64_t entries = 0, lines = 0;  // in the tar, and put into the journal
  std::uint64_t unreadable = 0;          // files whose content cannot be read
  std::uint64_t stretches = 0;           // entries that hold pieces of some large file
  bool cut_short = false;                // what comes behind some damage cannot be found
  std::string common_folder;             // of all that is no folder; absolute
};

// Reads all of the set's content and puts a line for each path into the index's journal, which was
// started; a file that cannot be read gets a digest that no content has. Throws Error(kDamage) if
// nothing of the tar can be read, Error(kPassphrase) if `identities` do not open it.
TarNames read_tar_names(const Shelf& shelf, const ShelfSet& set,
                        std::span<const Identity> identities, Index& index, Observer& observer);

}  // namespace kestrum
