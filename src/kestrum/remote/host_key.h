// The key that an SSH server proves itself with, and the file of those that are known.
#pragma once

#include <libssh2.h>

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

// The hosts that are known, as known_hosts(5) has them; none where there is no such file.
class KnownHosts {
 public:
  // `session` outlives it.
  KnownHosts(LIBSSH2_SESSION* session, const std::string& path);

  enum class Answer { kSame, kAnother, kUnknown };
  // Whether the host of an address is known by this key.
  Answer ask(const RemoteAddress& address, std::string_view blob, int type) const;
  // The kinds of keys, as the protocol names them, that a host is known by, and then all others:
  // what to ask it for.
  std::vector<std::string> preferred_kinds(const RemoteAddress& address) const;

 private:
  int check(const RemoteAddress& address, std::string_view blob, int mask) const;
  std::unique_ptr<LIBSSH2_KNOWNHOSTS, decltype(&libssh2_knownhost_free)> hosts_;
};

}  // namespace kestrum
