// What servers are reached with, beside their addresses: <config>/places.toml, a table a host.
//
//   ["backup.example.org"]                          # or "backup.example.org:2222"
//   user          = "front-desk"                    # where the address names nobody
//   key           = "/etc/kestrum/backup.key"       # SFTP: a private key
//   password_from = "/etc/kestrum/backup.password"  # a file that nobody else can read
//   known_hosts   = "/etc/kestrum/known_hosts"      # SFTP: else .ssh/known_hosts at home
//   ca            = "/etc/kestrum/ca.pem"           # TLS: certificates, instead of the system's
#pragma once

#include <functional>
#include <string>

#include "kestrum/base/nanos.h"
#include "kestrum/crypto/secret.h"
#include "kestrum/place/address.h"

namespace kestrum {

struct RemoteSettings {
  std::string user, key, password_from, known_hosts, ca;  // empty: not said; files are absolute

  Secret password() const;  // empty if none is named; throws Error(kUsage)
};

// What a host proves itself with.
struct HostKey {
  std::string host;         // as known_hosts(5) has it: name, or [name]:port
  std::string kind;         // "ssh-ed25519"
  std::string fingerprint;  // "SHA256:..." as ssh-keygen -l prints it
  std::string key;          // Base64
};

// What this process goes by when it reaches servers. Set before the first is reached.
struct RemoteContext {
  std::string settings_file;
  // Where what is to be sent as one waits until it is whole.
  std::string spool_folder = "/tmp";
  // How long a connection that broke is tried again, in nanoseconds.
  Nanos patience = kMinute;
  // Asked while waiting; true gives up.
  std::function<bool()> stopped;
  // Whether a host that is not known is to be known from now on; without it, none is.
  std::function<bool(const HostKey&)> accept;
  // A sentence for the person, or the log.
  std::function<void(const std::string&)> note;
};
RemoteContext& remote_context();

// Of the host of an address. Throws Error(kUsage) naming file and key for what is wrong, also if
// others can read the file.
RemoteSettings remote_settings(const RemoteAddress& address);

// The folder of keys and known hosts: .ssh in $HOME, or in the home that the system names.
std::string ssh_folder();

}  // namespace kestrum
