// The key that an SSH server proves itself with, and the file of those that are known.
#pragma once

#include <libssh/libssh.h>

#include <cstdint>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "kestrum/remote/remote_settings.h"

namespace kestrum {

inline constexpr std::uint16_t kSshPort = 22;

// `blob` as the protocol has it (RFC 4253, section 6.6). Throws Error(kPlace) for what is none.
HostKey host_key(const RemoteAddress& address, std::string_view blob);

// Adds a line to a file such as known_hosts(5), which is made with its folder if need be. Throws
// Error.
void add_known_host(const std::string& path, const HostKey& key);

using SshKey = std::unique_ptr<ssh_key_struct, decltype(&ssh_key_free)>;

// The keys that a host is known by, of a file such as known_hosts(5); none where there is no such
// file. Throws Error where it cannot be read.
class KnownKeys {
 public:
  KnownKeys(const std::string& path, const RemoteAddress& address);

  enum class Answer { kSame, kAnother, kUnknown };
  Answer ask(ssh_key offered) const;
  // Names of the ways in which a host can prove itself by a key (RFC 4253, section 6.6, and RFC
  // 8332), with commas between them: by those that it is known by, then by others.
  std::string methods() const;

 private:
  std::vector<SshKey> keys_;
};

}  // namespace kestrum
