// What a PATH means at any restore point of a job, on any of its disks.
#pragma once

#include <string>
#include <vector>

#include "kestrum/access/job_reader.h"

namespace kestrum {

// The paths, relative to "/" and in order, that a PATH as typed means at some restore point:
// itself, or all whose tail or name it matches. Throws Error(kNoMatch) if there is none.
std::vector<std::string> paths_ever(JobReader& reader, const std::string& typed);

struct PathAt {
  std::string path;        // relative to "/"
  JobReader::Point point;  // the newest that holds it
  bool is_folder = false;
};
// Each of those paths with the newest restore point that holds it.
std::vector<PathAt> last_seen_of(JobReader& reader, const std::string& typed);

}  // namespace kestrum
