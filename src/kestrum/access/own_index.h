// Whether this PC's index of a shelf says what the shelf's ledgers say.
#pragma once

#include <span>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/observer.h"

namespace kestrum {

struct OwnIndexCheck {
  std::vector<std::string> differences;  // in words; empty if there are none, or no index
  bool made_anew = false;                // it was read from the ledgers again
  std::string not_compared;              // why it was not; empty if it was, or there is none
};

// Reads the ledgers into an index beside this PC's own and compares the two. One that differs is
// made anew, unless something else is at work on the job or a set is pending. Where this PC has no
// room for that, nothing is compared, and that is said.
OwnIndexCheck check_own_index(const MachineState& machine, const OpenShelf& open,
                              std::span<const Identity> identities, Observer& observer);

}  // namespace kestrum
