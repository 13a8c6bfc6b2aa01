#include "kestrum/shelf/drill_note.h"

#include "kestrum/base/error.h"
#include "kestrum/base/json.h"
#include "kestrum/base/units.h"
#include "kestrum/shelf/document.h"

namespace kestrum {
namespace {

constexpr const char* kDrillNoteFormat = "kestrum-drill";
constexpr std::uint64_t kNoteLimit = 1 << 16;  // bytes
constexpr Nanos kClocksDiffer = kDay;

}  // namespace

void write_drill_note(Place& place, const DrillNote& note) {
  Json json = new_document(kDrillNoteFormat);
  json["when"] = format_rfc3339(note.when);
  json["host"] = note.host;
  json["files"] = note.files;
  json["mismatches"] = note.mismatches;
  try {
    write_small(place, kDrillNoteFile,
                json.dump(2, ' ', false, Json::error_handler_t::replace) + "\n");
  } catch (const Error&) {
    // The drill is told where it was done.
  }
}

std::optional<DrillNote> read_drill_note(Place& place, Nanos now) {
  try {
    if (!place.exists(kDrillNoteFile)) return std::nullopt;
    Json json = parse_document(read_small(place, kDrillNoteFile, kNoteLimit), kDrillNoteFormat,
                               kDrillNoteFile);
    DrillNote note;
    note.when = parse_rfc3339(json_string(json, "when", kDrillNoteFile)).value_or(0);
    note.host = json_string(json, "host", kDrillNoteFile);
    note.files = json_uint(json, "files", kDrillNoteFile);
    note.mismatches = json_uint(json, "mismatches", kDrillNoteFile);
    bool believable = note.when > 0 && note.when <= now + kClocksDiffer && note.files > 0;
    return believable ? std::optional(note) : std::nullopt;
  } catch (const Error&) {
    return std::nullopt;
  }
}

}  // namespace kestrum
