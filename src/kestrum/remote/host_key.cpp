#include "kestrum/remote/host_key.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sodium.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdint>
#include <utility>

#include "kestrum/base/base64.h"
#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr std::size_t kLongestKind = 64;

// A kind of keys, and how a host proves itself by one; the best first.
struct KeyKind {
  ssh_keytypes_e type;
  const char* methods;
};
constexpr std::array<KeyKind, 5> kKeyKinds = {{
    {SSH_KEYTYPE_ED25519, "ssh-ed25519"},
    {SSH_KEYTYPE_ECDSA_P256, "ecdsa-sha2-nistp256"},
    {SSH_KEYTYPE_ECDSA_P384, "ecdsa-sha2-nistp384"},
    {SSH_KEYTYPE_ECDSA_P521, "ecdsa-sha2-nistp521"},
    {SSH_KEYTYPE_RSA, "rsa-sha2-512,rsa-sha2-256"},
}};

// As known_hosts(5) has it.
std::string known_name(const RemoteAddress& address) {
  return address.port == 0 || address.port == kSshPort
             ? address.host
             : fmt::format("[{}]:{}", address.host, address.port);
}

}  // namespace

HostKey host_key(const RemoteAddress& address, std::string_view blob) {
  HostKey key;
  key.host = known_name(address);
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

KnownKeys::KnownKeys(const std::string& path, const RemoteAddress& address) {
  Fd file = open_named(path, O_RDONLY | O_NONBLOCK);
  if (!file && errno == ENOENT) return;
  if (!file) throw system_error(errno, path);
  const std::string name = lower_ascii(known_name(address));  // as hashed names are made
  for (const std::string& line : split(read_open_file(file.get(), path), '\n')) {
    ssh_knownhosts_entry* found = nullptr;
    int answer = ssh_known_hosts_parse_line(name.c_str(), line.c_str(), &found);
    std::unique_ptr<ssh_knownhosts_entry, decltype(&ssh_knownhosts_entry_free)> entry(
        found, ssh_knownhosts_entry_free);
    if (answer != SSH_OK || !entry || entry->publickey == nullptr) continue;
    keys_.emplace_back(std::exchange(entry->publickey, nullptr), ssh_key_free);
  }
}

KnownKeys::Answer KnownKeys::ask(ssh_key offered) const {
  for (const SshKey& key : keys_) {
    if (ssh_key_cmp(key.get(), offered, SSH_KEY_CMP_PUBLIC) == 0) return Answer::kSame;
  }
  return keys_.empty() ? Answer::kUnknown : Answer::kAnother;
}

std::string KnownKeys::methods() const {
  std::string first, others;
  for (const KeyKind& kind : kKeyKinds) {
    bool known = std::any_of(keys_.begin(), keys_.end(), [&](const SshKey& key) {
      return ssh_key_type(key.get()) == kind.type;
    });
    (known ? first : others) += fmt::format("{},", kind.methods);
  }
  first += others;
  first.pop_back();
  return first;
}

}  // namespace kestrum
