// The two copies of a set's ledger: one is as good as the other, and makes the other good again
// without any secret.
#pragma once

#include <memory>
#include <string>

#include "kestrum/shelf/shelf.h"

namespace kestrum {

// Whether a copy is as it was written; `from_disk`: past the page cache. Throws Error(kPlace).
bool is_sound_ledger(Place& place, const ShelfSet& set, const std::string& name, bool from_disk);

// A copy that is as it was written, the ledger itself first, open for reading: what is read is what
// was digested. Sets `name`; nothing if neither copy is as it was written.
std::unique_ptr<ByteSource> open_sound_ledger(Place& place, const ShelfSet& set, std::string& name);

// Writes the copy `damaged` anew from the other, which is sound. In words what was done. Throws
// Error if it cannot be written.
std::string mend_ledger(Place& place, const ShelfSet& set, const std::string& damaged);

}  // namespace kestrum
