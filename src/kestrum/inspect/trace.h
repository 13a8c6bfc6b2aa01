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
  EntryType type = EntryType::kFile;
  std::uint64_t size = 0;  // bytes
  Nanos modified = 0;
  std::optional<Digest> digest;
  std::vector<SetId> sets;              // that hold it, in order; not empty
  Nanos first_seen = 0, last_seen = 0;  // restore points
  enum class End { kStillThere, kReplaced, kGone, kLeftOut } end = End::kStillThere;
  std::string moved_to, moved_from;  // absolute; where known content went to and came from
};

// Calls `visit` with all versions of one path at a time, newest first, in path order; a path that
// the traced file had before or afterwards follows it. Returns how many paths there were.
std::uint64_t trace(ReadSession& session, const std::string& pattern, bool ignore_case,
                    const StopRequest& stop,
                    const std::function<void(const std::vector<TracedVersion>&)>& visit);

}  // namespace kestrum
