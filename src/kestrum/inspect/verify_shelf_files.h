// The files of a shelf that belong to no set.
#pragma once

#include <span>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/inspect/damage.h"

namespace kestrum {

// What is wrong with the label, the copies of the identity and the job's copy; with `identities`
// also whether they are the newest. Throws Error(kPlace) if the disk went away.
std::vector<Damage> check_shelf_files(const OpenShelf& open, std::span<const Identity> identities);

}  // namespace kestrum
