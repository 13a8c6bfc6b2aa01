// BLAKE3 with 256 bits of output: what `b3sum` prints.
#pragma once

#include <blake3.h>

#include <array>
#include <functional>
#include <optional>
#include <string>
#include <string_view>

#include "kestrum/base/bytes.h"

namespace kestrum {

using Digest = std::array<std::uint8_t, 32>;

class Digester {
 public:
  Digester() { blake3_hasher_init(&state_); }
  void update(ByteView bytes) { blake3_hasher_update(&state_, bytes.data(), bytes.size()); }
  // The digest of `count` zero bytes appended, as a file with holes has them. `meanwhile` is called
  // often; what it throws ends it.
  void update_zeros(std::uint64_t count, const std::function<void()>& meanwhile = {});
  Digest finish() const;

 private:
  blake3_hasher state_;
};

Digest digest_of(ByteView bytes);
std::string to_hex(ByteView bytes);
// 64 lower-case hexadecimal digits, nothing else.
std::optional<Digest> parse_digest(std::string_view hex);

}  // namespace kestrum
