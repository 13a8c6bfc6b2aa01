// Holding a restore point against the files on the PC as they are now, by content.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

#include "kestrum/access/read_session.h"

namespace kestrum {

// kWrong: it looks as it did when it was copied, to the nanosecond, and its content is another:
// either of the two is damaged. kFailed: it could not be read now.
enum class SourceFinding { kSame, kChangedSince, kGoneSince, kWrong, kFailed };
const char* finding_name(SourceFinding finding);  // "same", "changed since", ...

struct SourceTotals {
  std::uint64_t files[5] = {}, bytes = 0;  // by SourceFinding; bytes read
  std::uint64_t count(SourceFinding finding) const {
    return files[static_cast<std::size_t>(finding)];
  }
};

// Looks at every file of the set, in path order; `visit` is called for each that is not the same,
// with an absolute path. Files that are new since are not looked for. Throws Error(kStopped).
SourceTotals hold_against_source(
    ReadSession& session, SetId set, const StopRequest& stop, Observer& observer,
    const std::function<void(SourceFinding, const std::string&)>& visit);

}  // namespace kestrum
