#include "kestrum/crypto/digest.h"

#include <sodium.h>

#include <algorithm>

namespace kestrum {

void Digester::update_zeros(std::uint64_t count, const std::function<void()>& meanwhile) {
  static const std::array<std::uint8_t, 1 << 20> kZeros{};
  while (count > 0) {
    std::uint64_t n = std::min<std::uint64_t>(count, kZeros.size());
    update({kZeros.data(), n});
    count -= n;
    if (meanwhile) meanwhile();
  }
}

Digest Digester::finish() const {
  Digest digest;
  blake3_hasher_finalize(&state_, digest.data(), digest.size());
  return digest;
}

Digest digest_of(ByteView bytes) {
  Digester digester;
  digester.update(bytes);
  return digester.finish();
}

std::string to_hex(ByteView bytes) {
  std::string out(bytes.size() * 2 + 1, '\0');  // with the terminator that libsodium writes
  sodium_bin2hex(out.data(), out.size(), bytes.data(), bytes.size());
  out.pop_back();
  return out;
}

std::optional<Digest> parse_digest(std::string_view hex) {
  Digest digest;
  std::size_t length = 0;
  bool read = sodium_hex2bin(digest.data(), digest.size(), hex.data(), hex.size(), nullptr, &length,
                             nullptr) == 0;
  // libsodium takes capitals too; there is one spelling.
  return read && length == digest.size() && to_hex(digest) == hex ? std::optional(digest)
                                                                  : std::nullopt;
}

}  // namespace kestrum
