#include "kestrum/remote/host_key.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sodium.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstdint>

#include "kestrum/base/base64.h"
#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"

namespace kestrum {
namespace {

constexpr std::size_t kLongestKind = 64;

// The library's number of a key's kind, that of its known hosts, and the protocol's name.
struct KeyKind {
  int type, mask;
  const char* name;
};
constexpr std::array<KeyKind, 5> kKeyKinds = {{
    {LIBSSH2_HOSTKEY_TYPE_ED25519, LIBSSH2_KNOWNHOST_KEY_ED25519, "ssh-ed25519"},
    {LIBSSH2_HOSTKEY_TYPE_ECDSA_256, LIBSSH2_KNOWNHOST_KEY_ECDSA_256, "ecdsa-sha2-nistp256"},
    {LIBSSH2_HOSTKEY_TYPE_ECDSA_384, LIBSSH2_KNOWNHOST_KEY_ECDSA_384, "ecdsa-sha2-nistp384"},
    {LIBSSH2_HOSTKEY_TYPE_ECDSA_521, LIBSSH2_KNOWNHOST_KEY_ECDSA_521, "ecdsa-sha2-nistp521"},
    {LIBSSH2_HOSTKEY_TYPE_RSA, LIBSSH2_KNOWNHOST_KEY_SSHRSA, "ssh-rsa"},
}};

}  // namespace

HostKey host_key(const RemoteAddress& address, std::string_view blob) {
  HostKey key;
  key.host = address.port == 0 || address.port == kSshPort
                 ? address.host
                 : fmt::format("[{}]:{}", address.host, address.port);
  std::size_t length = 0;
  for (std::size_t i = 0; i < 4 && i < blob.size(); ++i) {
    length = length << 8 | static_cast<unsigned char>(blob[i]);
  }
  if (blob.size() < 4 || length > kLongestKind || length > blob.size() - 4) {
    throw Error(ErrorKind::kPlace, address.host + ": its host key cannot be understood");
  }
  key.kind = blob.substr(4, length);
  key.key = base64_encode(blob);
  std::string digest(crypto_hash_sha256_BYTES, '\0');
  crypto_hash_sha256(reinterpret_cast<unsigned char*>(digest.data()),
                     reinterpret_cast<const unsigned char*>(blob.data()), blob.size());
  key.fingerprint = "SHA256:" + base64_encode_unpadded(digest);
  return key;
}

void add_known_host(const std::string& path, const HostKey& key) {
  std::string folder = parent_of(path);
  if (!is_named_folder(folder)) {
    Fd above = open_named(parent_of(folder), O_PATH | O_DIRECTORY);
    if (!above || !below::make_folder(above.get(), base_name(folder))) {
      throw system_error(errno, folder);
    }
  }
  Fd in = open_named(folder, O_PATH | O_DIRECTORY);
  Fd file = in ? below::open(in.get(), base_name(path), O_RDWR | O_APPEND) : Fd();
  if (in && !file && errno == ENOENT) file = below::create(in.get(), base_name(path));
  if (!file) throw system_error(errno, path);
  // A last line without an end would swallow this one.
  off_t size = ::lseek(file.get(), 0, SEEK_END);
  char last = '\n';
  if (size > 0 && ::pread(file.get(), &last, 1, size - 1) != 1) throw system_error(errno, path);
  std::string line =
      fmt::format("{}{} {} {}\n", last == '\n' ? "" : "\n", key.host, key.kind, key.key);
  if (::write(file.get(), line.data(), line.size()) != static_cast<ssize_t>(line.size()) ||
      ::fsync(file.get()) != 0) {
    throw system_error(errno, path);
  }
}

KnownHosts::KnownHosts(LIBSSH2_SESSION* session, const std::string& path)
    : hosts_(libssh2_knownhost_init(session), libssh2_knownhost_free) {
  if (!hosts_) throw Error(ErrorKind::kFailed, "no client for servers can be had");
  libssh2_knownhost_readfile(hosts_.get(), path.c_str(), LIBSSH2_KNOWNHOST_FILE_OPENSSH);
}

int KnownHosts::check(const RemoteAddress& address, std::string_view blob, int mask) const {
  libssh2_knownhost* found = nullptr;
  int port = address.port == 0 || address.port == kSshPort ? -1 : address.port;
  return libssh2_knownhost_checkp(
      hosts_.get(), address.host.c_str(), port, blob.data(), blob.size(),
      LIBSSH2_KNOWNHOST_TYPE_PLAIN | LIBSSH2_KNOWNHOST_KEYENC_RAW | mask, &found);
}

KnownHosts::Answer KnownHosts::ask(const RemoteAddress& address, std::string_view blob,
                                   int type) const {
  bool known = false;
  for (const KeyKind& kind : kKeyKinds) {
    int answer = check(address, blob, kind.mask);
    if (answer == LIBSSH2_KNOWNHOST_CHECK_MATCH && kind.type == type) return Answer::kSame;
    known |= answer != LIBSSH2_KNOWNHOST_CHECK_NOTFOUND;
  }
  return known ? Answer::kAnother : Answer::kUnknown;
}

std::vector<std::string> KnownHosts::preferred_kinds(const RemoteAddress& address) const {
  std::vector<std::string> first, others;
  for (const KeyKind& kind : kKeyKinds) {
    // No host has this for a key: what is told is whether it is known by one of the kind.
    bool known = check(address, "none", kind.mask) == LIBSSH2_KNOWNHOST_CHECK_MISMATCH;
    (known ? first : others).emplace_back(kind.name);
  }
  first.insert(first.end(), others.begin(), others.end());
  return first;
}

}  // namespace kestrum
