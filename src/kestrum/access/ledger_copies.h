// The two copies of a set's ledger: one is as good as the other, and makes the other good again
// without any secret.
#pragma once

#include <optional>
#include <string>

#include "kestrum/base/observer.h"
#include "kestrum/shelf/shelf.h"

namespace kestrum {

// The path of a copy that is as it was written, the ledger itself first; nothing if neither is.
std::optional<std::string> sound_ledger(Place& place, const ShelfSet& set,
                                        const StopRequest& stop = {});

// Writes a copy that is missing, or has another length, anew from the other. In words what was
// done; nothing if both are there or neither can help.
std::optional<std::string> mend_ledger_by_size(Place& place, const ShelfSet& set);
// The same of a copy that is known not to be as it was written. Throws Error if it cannot be
// written.
std::string mend_ledger(Place& place, const ShelfSet& set, const std::string& damaged,
                        const std::string& sound);

}  // namespace kestrum
