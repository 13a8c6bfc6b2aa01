// A shelf that goes on where its copy lies, and not any more where it was (docs/format.md, "A shelf
// that moves").
#pragma once

#include <optional>
#include <string>

#include "kestrum/access/open_shelf.h"
#include "kestrum/job/job_store.h"

namespace kestrum {

struct MovedShelf {
  std::string to;    // folder of the shelf
  std::string from;  // folder where it was
  // Why what is there could not be marked; empty if it is. This PC knows it without a mark.
  std::string not_marked;
};

// From the first step on nothing is written any more where the shelf was; each can be cut off, and
// all of them be made again: what is known of the shelf, the job's file, the label of what was a
// copy, and that of what was the shelf. The caller holds the job's lock, and has seen to it that
// the copy has every set. Throws Error(kUsage) where no copy of the shelf lies at `place`.
MovedShelf move_shelf(const JobStore& jobs, ShelfState state, const std::string& place);

// Marks what lies at the place `from` as where the shelf was before it went to the folder `to`,
// where it has this label; `filled`: sets there have parts here. Why that could not be done; empty
// if it is.
std::string mark_as_left(const ShelfState& state, const std::string& from, const ShelfLabel& label,
                         const std::string& to, bool filled);

// The shelf of the job whose move to `place` was begun and not finished; nothing if there is none.
std::optional<ShelfState> begun_move(const MachineState& machine, const std::string& job,
                                     const std::string& place);

}  // namespace kestrum
