// last-drill.json: a drill on a machine that only reads the shelf, such as the support desk's. Not
// signed: who can write there can say so.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "kestrum/base/nanos.h"
#include "kestrum/place/place.h"

namespace kestrum {

inline constexpr const char* kDrillNoteFile = "last-drill.json";

struct DrillNote {
  Nanos when = 0;    // by the calendar there
  std::string host;  // where it was done, as it says
  std::uint64_t files = 0, mismatches = 0;
};

// Nothing happens where the shelf cannot be written.
void write_drill_note(Place& place, const DrillNote& note);
// Nothing if there is none, it cannot be read, or it is of a time to come.
std::optional<DrillNote> read_drill_note(Place& place, Nanos now);

}  // namespace kestrum
