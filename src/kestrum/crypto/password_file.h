// A password in a file of its own.
#pragma once

#include <string>

#include "kestrum/crypto/secret.h"

namespace kestrum {

// The first line's end is dropped. Throws Error(kUsage) for a file that others can read, or that is
// not there.
Secret read_password(const std::string& path);

}  // namespace kestrum
