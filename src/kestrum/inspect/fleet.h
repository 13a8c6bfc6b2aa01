// How the shelves of many PCs stand, as far as the disk tells without any secret: for a look from
// the desk at a server or a disk where they all lie. Everything on it is untrusted.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/inspect/job_status.h"
#include "kestrum/machine/machine_state.h"

namespace kestrum {

// A shelf; or a folder that should be one and is not, or a host that has none.
struct FleetRow {
  std::string folder;     // absolute; empty for a host that is missing
  std::string host, job;  // as the label says; empty where there is none
  StatusLevel level = StatusLevel::kFine;
  std::vector<std::string> reasons;  // those that make the level first
  Nanos heard = 0;                   // the last sign of a run, 0: never
  Nanos newest = 0, oldest = 0;      // restore points, 0: none
  std::uint64_t restore_points = 0;
  std::uint64_t stored_bytes = 0;
  std::optional<std::uint64_t> free_bytes;
  // Whether all that is told was signed by a key that this PC knows; nothing if it knows none.
  std::optional<bool> vouched;

  // And not a folder that is none, or a host that has none.
  bool is_shelf() const { return !folder.empty() && !host.empty(); }
};

struct FleetRequest {
  std::string folder;                 // absolute
  std::vector<std::string> expected;  // hosts that should have a shelf
  Nanos now = 0;
};

// Worst first, then by host and job. Throws Error(kPlace) if the folder is not there.
std::vector<FleetRow> look_at_shelves(const MachineState& machine, const FleetRequest& request);

}  // namespace kestrum
