// The name of this PC.
#pragma once

#include <string>

namespace kestrum {

// KESTRUM_HOST, or the system's host name; made fit for a folder's name, at most 64 bytes.
std::string host_name();

}  // namespace kestrum
