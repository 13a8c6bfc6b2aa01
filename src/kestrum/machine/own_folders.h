// Folders of this PC that hold what Kestrum wrote, and are never copied.
#pragma once

#include <sys/types.h>

#include <string>
#include <utility>
#include <vector>

#include "kestrum/machine/machine_state.h"

namespace kestrum {

// Device and inode of the shelf at `shelf_path` (absolute; empty: none), of every other known
// shelf, of Kestrum's state, and of the folders set aside. Folders that are not there are left out.
std::vector<std::pair<dev_t, ino_t>> own_folders(const MachineState& machine,
                                                 const std::string& shelf_path);

// Notes that a restore moves files to `folder` (absolute), before there is anything in it: a run
// beside it would copy them otherwise.
void add_set_aside_folder(const MachineState& machine, const std::string& folder);
// All that were noted, whether they are still there or not.
std::vector<std::string> set_aside_folders(const MachineState& machine);

}  // namespace kestrum
