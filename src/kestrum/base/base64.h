// Base64 of RFC 4648 section 4. Decoding accepts only the canonical form.
#pragma once

#include <optional>
#include <string>
#include <string_view>

namespace kestrum {

std::string base64_encode(std::string_view bytes);           // with padding
std::string base64_encode_unpadded(std::string_view bytes);  // as in age headers
// Nothing if there is a foreign character, a wrong padding or a trailing bit that is set.
std::optional<std::string> base64_decode(std::string_view text);
std::optional<std::string> base64_decode_unpadded(std::string_view text);

}  // namespace kestrum
