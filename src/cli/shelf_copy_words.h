// What became of a copy of a shelf.
#pragma once

#include <string>

#include "kestrum/backup/copy_job.h"

namespace kestrum::cli {

// "3 sets, 1.20 GB, to /media/red-disk/...; 2 sets that no promise holds went".
std::string copy_in_words(const CopyJobResult& result);

}  // namespace kestrum::cli
