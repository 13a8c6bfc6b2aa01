// A shelf that goes on to another disk of its job when the one that it is on is full: its documents
// go along, the parts of its sets stay where they are (docs/format.md, "A shelf over several
// disks").
#pragma once

#include <optional>
#include <string>

#include "kestrum/access/open_shelf.h"

namespace kestrum {

// The shelf of a job that goes on from disk to disk, or did, if it has one.
std::optional<ShelfState> spanning_shelf(const MachineState& machine, const Job& job);

// Makes the disk at `place` one that the shelf goes on to, or makes it so again. Throws
// Error(kUsage) where there is a shelf already, and as make_shelf_folder.
void prepare_next_disk(const ShelfState& state, const std::string& place, const Clock& clock);

// The place of the job where such a disk is now, or `on_place` alone. One that cannot be looked at
// is passed over.
std::optional<std::string> waiting_disk(const Job& job, const ShelfRecord& record,
                                        const std::optional<std::string>& on_place);

// Keeps on this PC what has to go along, since the next disk may be plugged in in the place of this
// one, and remembers that the disk is full. In the folder of the set that is `unfinished`, if there
// is one, a note keeps whoever takes over this disk from tidying it up. The caller holds the job's
// lock.
void leave_full_disk(OpenShelf& open, const std::optional<std::string>& unfinished, Nanos now);
// The documents alone, as they are by now.
void keep_documents(const OpenShelf& open);
// There is room again, or the job does not span any more.
void is_not_full(ShelfState& state);

// Goes on to the disk that waits at `place`. Each step can be cut off, and all of them be made
// again: what goes along, what this PC knows, from which moment nothing is written any more where
// the shelf was, and the label.
void go_on_at(ShelfState& state, const std::string& place);

// Signs anew, with the key that holds now, what says that the disks at the job's places wait.
void sign_waiting_disks(const Job& job, const ShelfState& state, const Clock& clock);

// Lets go of a disk that the shelf was on: what lies there counts as lost, so that the next set
// stores anew what is still on this PC. The caller holds the job's lock. Throws Error(kPlace) if
// the disk that the shelf is on now is not plugged in.
void forget_earlier_disk(const MachineState& machine, const Job& job, ShelfState& state,
                         std::uint64_t number);
// Whether the shelf was on a disk at `place`, and is not there now.
bool was_on(const ShelfRecord& record, const std::string& place);

// Whether that was begun and not finished.
bool is_going_on(const ShelfRecord& record);

}  // namespace kestrum
