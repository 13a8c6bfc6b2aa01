#include "kestrum/base/base64.h"

#include <sodium.h>

namespace kestrum {
namespace {

std::string encode(std::string_view bytes, int variant) {
  std::string out(sodium_base64_encoded_len(bytes.size(), variant), '\0');
  sodium_bin2base64(out.data(), out.size(), reinterpret_cast<const unsigned char*>(bytes.data()),
                    bytes.size(), variant);
  out.pop_back();  // the terminator
  return out;
}

std::optional<std::string> decode(std::string_view text, int variant) {
  std::string out(text.size() / 4 * 3 + 3, '\0');
  std::size_t length = 0;
  if (sodium_base642bin(reinterpret_cast<unsigned char*>(out.data()), out.size(), text.data(),
                        text.size(), nullptr, &length, nullptr, variant) != 0) {
    return std::nullopt;
  }
  out.resize(length);
  // libsodium refuses stray characters and set trailing bits; comparing makes canonical form sure.
  if (encode(out, variant) != text) return std::nullopt;
  return out;
}

}  // namespace

std::string base64_encode(std::string_view bytes) {
  return encode(bytes, sodium_base64_VARIANT_ORIGINAL);
}
std::string base64_encode_unpadded(std::string_view bytes) {
  return encode(bytes, sodium_base64_VARIANT_ORIGINAL_NO_PADDING);
}
std::optional<std::string> base64_decode(std::string_view text) {
  return decode(text, sodium_base64_VARIANT_ORIGINAL);
}
std::optional<std::string> base64_decode_unpadded(std::string_view text) {
  return decode(text, sodium_base64_VARIANT_ORIGINAL_NO_PADDING);
}

}  // namespace kestrum
