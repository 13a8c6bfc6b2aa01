// Every version of the files that match a pattern, and in which sets each lies.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/read_session.h"

namespace kestrum {

struct TracedVersion {
  std::string path;  // absolute
  std::string disk;  // that its sets are on; empty if the job has no other
  EntryType type = EntryType::kFile;
  std::uint64_t size = 0;  // bytes
  Nanos modified = 0;
  std::optional<Digest> digest;
  std::vector<SetId> sets;              // that hold it, in order; not empty
  std::optional<SetId> sound;           // the newest of them before any that is suspect
  Nanos first_seen = 0, last_seen = 0;  // restore points
  // kNotThere: it is there on its disk, and not at the newest restore point, which another disk
  // has.
  enum class End { kStillThere, kReplaced, kGone, kLeftOut, kNotThere } end = End::kStillThere;
  std::string not_at;                // of kNotThere, that restore point: "c2-0 on red-disk"
  std::string moved_to, moved_from;  // absolute; where known content went to and came from
};

// Looks through the restore points of all `sessions`, which are the disks of one job. Calls `visit`
// with all versions of one path at a time, newest first, in path order; a path that
// the traced file had before or afterwards follows it. Returns how many paths there were.
std::uint64_t trace(const std::vector<ReadSession*>& sessions, const std::string& pattern,
                    bool ignore_case, const StopRequest& stop,
                    const std::function<void(const std::vector<TracedVersion>&)>& visit);

}  // namespace kestrum
