// Where a place is: a folder of this machine, or an address of a server. Both are kept as text,
// which is the same for the same place; below a server's address names are added with '/' as below
// a folder.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

namespace kestrum {

struct RemoteAddress {
  enum class Protocol {
    kSftp,     // sftp://
    kWebdavs,  // webdavs://, WebDAV (RFC 4918) over TLS
    kWebdav,   // webdav://, without; for a server on this machine
    kFtps,     // ftps://, FTP over TLS (RFC 4217)
  };
  Protocol protocol = Protocol::kSftp;
  std::string user;        // empty: as the settings, or the protocol, have it
  std::string host;        // a name or a number, IPv6 without brackets
  std::uint16_t port = 0;  // 0: the protocol's own
  std::string path;        // absolute, bytes as they are on the server; "/" is the whole of it

  // As places are kept and shown: sftp://user@host:2222/path, anything odd in the path as %20.
  std::string text() const;
  // host, or host:port where it has one; as keys of places.toml have it.
  std::string host_and_port() const;
  bool on_this_machine() const;
};

// A path with what does not stand in URLs by itself as %20 (RFC 3986, section 2.1).
std::string percent_encoded(std::string_view path);
// Throws Error(kUsage) for what is not so encoded.
std::string percent_decoded(std::string_view text);

// Whether a place is on a server: it begins like one of the protocols' addresses.
bool is_remote(std::string_view place);

// Throws Error(kUsage) for what is no address, and for one with a password in it.
RemoteAddress parse_address(std::string_view text);

// A place that somebody typed, as it is kept: an address, or an absolute path, from the current
// folder where it is relative. Throws Error(kUsage).
std::string place_named(const std::string& typed);

// Whether somebody who types that means this place: as place_named() has it, or by its last name.
bool is_place_called(const std::string& place, const std::string& typed);

}  // namespace kestrum
