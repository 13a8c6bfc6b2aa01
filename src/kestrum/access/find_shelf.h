// Finding a job's shelves among the disks that are plugged in.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"

namespace kestrum {

// A shelf that this PC knows of a job, plugged in or not.
struct KnownShelf {
  std::string disk;                 // what people call it, unique; empty if the job has no other
  std::string place;                // absolute folder on the disk, where it is or was last
  std::optional<OpenShelf> open;    // nothing if it is away, or cannot be opened
  std::optional<ShelfState> state;  // of one that is not open: what this PC keeps about it
  std::optional<Error> why_not;     // it is not open
};

// Every shelf of the job that this PC knows, those at places of former times too; of `on` alone, if
// given: a place, or the last name of one. Throws Error(kUsage) for an `on` that is none of the
// job's, Error(kPlace) if no shelf of the job is known.
std::vector<KnownShelf> known_shelves(const MachineState& machine, const Job& job,
                                      const std::optional<std::string>& on = std::nullopt);

// The shelf in a folder that somebody names, of whichever job and PC. Throws as open_shelf_at.
KnownShelf shelf_in_folder(const MachineState& machine, const std::string& folder);

// The job's shelf at the first of its places that is there (at `on_place` only, if given). Of
// several, the one whose newest set is the older. If none is there, on whatever mounted disk it is
// found, by its label. Throws Error(kPlace) saying which of the cases it
// is: not plugged in, another disk, no shelf yet; Error(kDamage) for a label that was tampered
// with. One that another machine has taken over is for reading only.
OpenShelf find_shelf(const MachineState& machine, const Job& job,
                     const std::optional<std::string>& on_place = std::nullopt);

// Throws Error(kUsage) if a place that somebody typed is neither one of the job's nor there.
void check_on_place(const Job& job, const std::string& on_place);

// The same, to write to: only a shelf of a place that the job names now, wherever its disk is
// mounted. Throws as check_on_place, and Error(kPlace) for a disk of former times.
OpenShelf find_shelf_to_write(const MachineState& machine, const Job& job,
                              const std::optional<std::string>& on_place = std::nullopt);

}  // namespace kestrum
