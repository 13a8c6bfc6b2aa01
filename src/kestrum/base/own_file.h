// What root goes by must be root's alone: whoever else could write it would give root orders.
#pragma once

#include <sys/stat.h>

#include <string>

#include "kestrum/base/error.h"

namespace kestrum {

// Throws Error(`kind`) naming `path` if this process is root's, and what was found there belongs to
// somebody else or may be written by others.
void require_own(const struct stat& st, const std::string& path,
                 ErrorKind kind = ErrorKind::kUsage);
// The same of what lies at `path`, links followed; what is not there is fine.
void require_own(const std::string& path, ErrorKind kind = ErrorKind::kUsage);

}  // namespace kestrum
