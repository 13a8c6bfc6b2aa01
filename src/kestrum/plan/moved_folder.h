// Where a folder of a job may lie now that is not where it was: a hint for whoever looks, never a
// reason to do anything.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/observer.h"
#include "kestrum/machine/index.h"

namespace kestrum {

// The names that a restore point knows directly in `folder` (absolute), at most a hundred.
std::vector<std::string> names_in(Index& index, SetId set, const std::string& folder);

// The folder that holds the most of `names`, and half of them at least; of one name alone, only if
// it is called as `folder` was. Looked for near where `folder` was, and on the disks that are
// mounted; shares are not entered, and a few thousand folders are listed at most.
std::optional<std::string> find_moved(const std::string& folder,
                                      const std::vector<std::string>& names,
                                      const StopRequest& stop);

}  // namespace kestrum
