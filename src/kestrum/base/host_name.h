// The name of this PC.
#pragma once

#include <string>
#include <string_view>

namespace kestrum {

// KESTRUM_HOST, or the system's host name; made fit for a folder's name, at most 64 bytes.
std::string host_name();

// Whether a text could be what host_name() gives.
bool is_host_name(std::string_view text);

// Whether the host of a URL, without brackets, is this PC whatever it is called.
bool is_this_machine(std::string_view host);

}  // namespace kestrum
