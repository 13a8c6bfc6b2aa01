// What the disks of a job know of each other: each one's head names the newest seals of the others.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"

namespace kestrum {

// The newest that this PC knows of the job's disks other than this one.
std::vector<OtherHead> heads_of_others(const MachineState& machine, const OpenShelf& open);

// Why the shelf is older than it was once, by its own head or by what other disks of the job knew
// of it. In words; nothing if it is not, or nobody knows.
std::optional<std::string> why_set_back(const MachineState& machine, const OpenShelf& open);

// The number of the next seal: higher than any that this PC, the shelf or another disk of the job
// knows of it.
std::uint64_t next_seal_number(const MachineState& machine, const OpenShelf& open);

}  // namespace kestrum
