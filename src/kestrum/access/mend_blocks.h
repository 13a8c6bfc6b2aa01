// The file "blocks" of a set: read to say where a damaged file differs, written anew where it is
// damaged itself and all that it tells of is sound.
#pragma once

#include <optional>
#include <string>

#include "kestrum/shelf/shelf.h"

namespace kestrum {

// The digests, block by block, of the file `name` of the set, as `blocks` has them; nothing if that
// is not as it was written, or the seal has no such part or ledger. Throws Error(kPlace).
std::optional<std::string> blocks_of(Place& place, const ShelfSet& set, const std::string& name);

// Where a file differs from what was written, in words: "2 of 951 MiB, the first at 3 MiB".
std::string where_it_differs(const std::string& written, const std::string& found);

// Works it out anew from the parts and the ledger. In words what was done; nothing if they are not
// all as they were written. Throws Error if it cannot be written.
std::optional<std::string> mend_blocks(Place& place, const ShelfSet& set);

}  // namespace kestrum
