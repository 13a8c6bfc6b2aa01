// The proof that restores work: files chosen at random are restored, compared and thrown away.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "kestrum/access/read_session.h"

namespace kestrum {

struct DrillRequest {
  std::uint64_t files = 20;
  std::string scratch;     // a folder of this machine's own, made if need be, emptied afterwards
  std::uint64_t seed = 0;  // the same one chooses the same files
  StopRequest stop;
};

struct DrillMismatch {
  std::string path;  // absolute
  SetId set;         // the restore point
  std::string reason;
};

struct DrillResult {
  std::uint64_t files = 0, bytes = 0;  // restored and compared, mismatches included
  std::uint64_t restore_points = 0;    // that they were taken from
  std::uint64_t too_large = 0;  // chosen, and left out for want of room in the scratch folder
  std::uint64_t away = 0;  // chosen, and left out: on disks of the shelf that are not plugged in
  std::vector<DrillMismatch> mismatches;
};

// Each chosen file is restored as `restore` would, read again, and its digest compared with the
// ledger's. Every version that the shelf holds is as likely as any other. This PC remembers when,
// and how it went. Throws Error(kNoMatch) if there is no file to choose, Error(kPlace),
// Error(kStopped).
DrillResult drill(ReadSession& session, const DrillRequest& request, Observer& observer);

}  // namespace kestrum
