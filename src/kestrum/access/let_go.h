// A job lets go of a place: of a disk that is lost, or that is given away (docs/format.md, "What a
// shelf leaves behind").
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/observer.h"
#include "kestrum/job/job_store.h"

namespace kestrum {

// What a place is to a job, by what this PC knows and the job says.
struct PlaceToLeave {
  std::string place;         // absolute
  bool is_named = false;     // one of destination.places
  bool is_only_one = false;  // ... and no other is
  bool is_for_a_copy = false;
  std::optional<ShelfState> state;  // of the shelf that was there last
};

// By a place or the last name of one, as somebody types it. Throws Error(kUsage) if it is none of
// the job's, or several.
PlaceToLeave place_to_leave(const MachineState& machine, const Job& job, const std::string& typed);

// The same where any folder of a disk will do, by its path.
std::string place_of_disk(const MachineState& machine, const Job& job, const std::string& typed);

// Takes the place out of the job's file, unless no other would be left in it. Whether it was there.
bool leave_place(const JobStore& jobs, const Job& job, const std::string& place);

// What is to be erased: a shelf, its copy, where it was before it moved, a disk that it has filled,
// or one that it is still to go on to.
struct ShelfToErase {
  enum class Kind { kShelf, kCopy, kFormerHome, kFilled, kWaiting };
  Kind kind = Kind::kShelf;
  std::string place;  // absolute
  OpenShelf open;     // with a state
};

// What lies at a place of the job. Throws Error(kPlace) if it is not plugged in, holds nothing of
// the job's or what another machine has taken over; Error(kDamage) for a label that is not signed.
ShelfToErase shelf_to_erase(const MachineState& machine, const Job& job, const std::string& place);

// Throws Error(kBusy) while somebody reads a set there, Error(kFailed) where nothing may be
// removed.
void check_erasable(const ShelfToErase& target);

// Overwrites the keys, so that nobody who has only this disk can read what is left of the sets on
// it, then removes all that a shelf consists of, the label last: what was cut off can be made
// again. Returns what else lies there, which stays.
std::vector<std::string> erase_shelf(const ShelfToErase& target, Observer& observer);

}  // namespace kestrum
