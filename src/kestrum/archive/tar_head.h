// Writing the headers of tar entries; tar_format.h says how a stream is made up.
#pragma once

#include <string>
#include <vector>

#include "kestrum/archive/entry.h"
#include "kestrum/base/data_runs.h"

namespace kestrum {

// The headers of an entry and, for a file with holes, its map: all that stands before the content.
// `runs` is used only if `entry.holes`; the content that follows is then the runs back to back.
// A hard link's target is a path like the entry's own.
std::string tar_entry_head(const Entry& entry, const std::vector<DataRun>& runs = {});

// The name of an entry in the stream: "." for "/", a trailing slash for a folder.
std::string tar_name(const Entry& entry);

}  // namespace kestrum
