#include "kestrum/remote/host_key.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sodium.h>
#include <unistd.h>

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

}  // namespace kestrum
