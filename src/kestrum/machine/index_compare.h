// Whether an index says what another one says that was just read from the ledgers.
#pragma once

#include <string>
#include <vector>

#include "kestrum/machine/index.h"

namespace kestrum {

// `fresh_path` is the file of an index that holds the same sets. What `index` claims otherwise, of
// the sets that both know, in words, the first twenty; nothing if they agree. Inode, ctime and
// doubt, which no ledger tells, are not compared. Needs little memory, whatever they hold.
std::vector<std::string> compare_indexes(Index& index, const std::string& fresh_path);

}  // namespace kestrum
