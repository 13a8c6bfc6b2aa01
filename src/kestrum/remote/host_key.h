// The key that an SSH server proves itself with, and the file of those that are known.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "kestrum/remote/remote_settings.h"

namespace kestrum {

inline constexpr std::uint16_t kSshPort = 22;

// `blob` as the protocol has it (RFC 4253, section 6.6). Throws Error(kPlace) for what is none.
HostKey host_key(const RemoteAddress& address, std::string_view blob);

// Adds a line to a file such as known_hosts(5), which is made with its folder if need be. Throws
// Error.
void add_known_host(const std::string& path, const HostKey& key);

}  // namespace kestrum
