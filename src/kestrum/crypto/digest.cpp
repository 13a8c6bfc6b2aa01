#include "kestrum/crypto/digest.h"

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
  static constexpr char kDigits[] = "0123456789abcdef";
  std::string out;
  out.reserve(bytes.size() * 2);
  for (std::uint8_t b : bytes) {
    out += kDigits[b >> 4];
    out += kDigits[b & 15];
  }
  return out;
}

std::optional<Digest> parse_digest(std::string_view hex) {
  if (hex.size() != 64) return std::nullopt;
  Digest digest;
  for (std::size_t i = 0; i < 64; ++i) {
    char c = hex[i];
    int value = c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1;
    if (value < 0) return std::nullopt;
    if (i % 2 == 0) {
      digest[i / 2] = static_cast<std::uint8_t>(value << 4);
    } else {
      digest[i / 2] |= static_cast<std::uint8_t>(value);
    }
  }
  return digest;
}

}  // namespace kestrum
