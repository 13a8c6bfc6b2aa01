// Numbers as the index packs them: seven bits a byte, the lowest first.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

namespace kestrum {

inline void put_number(std::string& out, std::uint64_t value) {
  for (; value >= 0x80; value >>= 7) out += static_cast<char>(value | 0x80);
  out += static_cast<char>(value);
}

// Takes one from the front; false if there is none.
inline bool get_number(std::string_view& in, std::uint64_t& value) {
  value = 0;
  for (unsigned shift = 0; shift < 64 && !in.empty(); shift += 7) {
    auto byte = static_cast<unsigned char>(in.front());
    in.remove_prefix(1);
    value |= static_cast<std::uint64_t>(byte & 0x7f) << shift;
    if ((byte & 0x80) == 0) return true;
  }
  return false;
}

}  // namespace kestrum
