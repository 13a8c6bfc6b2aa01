#include "kestrum/crypto/bech32.h"

#include <algorithm>

#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr std::string_view kAlphabet = "qpzry9x8gf2tvdw0s3jn54khce6mua7l";

class Checksum {
 public:
  void add(unsigned value) {
    constexpr std::uint32_t kGenerator[5] = {0x3b6a57b2, 0x26508e6d, 0x1ea119fa, 0x3d4233dd,
                                             0x2a1462b3};
    std::uint32_t top = state_ >> 25;
    state_ = (state_ & 0x1ffffff) << 5 ^ value;
    for (unsigned i = 0; i < 5; ++i) {
      if ((top >> i & 1) != 0) state_ ^= kGenerator[i];
    }
  }
  void add_prefix(std::string_view prefix) {
    for (char c : prefix) add(static_cast<unsigned char>(c) >> 5);
    add(0);
    for (char c : prefix) add(static_cast<unsigned char>(c) & 31);
  }
  std::uint32_t state() const { return state_; }

 private:
  std::uint32_t state_ = 1;
};

template <typename Data>
std::optional<Data> decode_into(std::string_view text, std::string_view prefix) {
  bool has_lower =
      std::any_of(text.begin(), text.end(), [](char c) { return c >= 'a' && c <= 'z'; });
  bool has_upper =
      std::any_of(text.begin(), text.end(), [](char c) { return c >= 'A' && c <= 'Z'; });
  if (has_lower && has_upper) return std::nullopt;
  if (text.size() < prefix.size() + 7 || text[prefix.size()] != '1' ||
      lower_ascii(text.substr(0, prefix.size())) != prefix) {
    return std::nullopt;
  }
  Checksum checksum;
  checksum.add_prefix(prefix);
  Data out;
  unsigned bits = 0, have = 0;
  std::string_view body = text.substr(prefix.size() + 1);
  for (std::size_t i = 0; i < body.size(); ++i) {
    char c = body[i] >= 'A' && body[i] <= 'Z' ? static_cast<char>(body[i] + 32) : body[i];
    std::size_t value = kAlphabet.find(c);
    if (value == std::string_view::npos) return std::nullopt;
    checksum.add(static_cast<unsigned>(value));
    if (i + 6 >= body.size()) continue;
    bits = (bits << 5 | static_cast<unsigned>(value)) & 0xfff;
    have += 5;
    if (have >= 8) {
      have -= 8;
      out.push_back(static_cast<char>(bits >> have & 0xff));
    }
  }
  if (checksum.state() != 1 || have >= 5 || (bits & ((1U << have) - 1)) != 0) return std::nullopt;
  return out;
}

}  // namespace

Secret bech32_encode(std::string_view prefix, ByteView data) {
  Checksum checksum;
  checksum.add_prefix(prefix);
  Secret out;
  out.append(prefix);
  out.push_back('1');
  auto put = [&](unsigned five) {
    checksum.add(five);
    out.push_back(kAlphabet[five]);
  };
  unsigned bits = 0, have = 0;
  for (std::uint8_t byte : data) {
    bits = (bits << 8 | byte) & 0xfff;
    for (have += 8; have >= 5;) {
      have -= 5;
      put(bits >> have & 31);
    }
  }
  if (have > 0) put(bits << (5 - have) & 31);
  for (int i = 0; i < 6; ++i) checksum.add(0);
  std::uint32_t sum = checksum.state() ^ 1;
  for (int i = 0; i < 6; ++i) out.push_back(kAlphabet[sum >> (5 * (5 - i)) & 31]);
  return out;
}

std::optional<Secret> bech32_decode(std::string_view text, std::string_view prefix) {
  return decode_into<Secret>(text, prefix);
}

std::optional<std::string> bech32_decode_public(std::string_view text, std::string_view prefix) {
  return decode_into<std::string>(text, prefix);
}

}  // namespace kestrum
