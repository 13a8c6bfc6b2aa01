// Bech32 (BIP 173) without its length limit, as age writes identities and recipients.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "kestrum/crypto/secret.h"

namespace kestrum {

// `prefix` in lower case; the result is lower case.
Secret bech32_encode(std::string_view prefix, ByteView data);
// The data behind `prefix` (compared in lower case). Nothing if the text is not canonical Bech32:
// mixed case, another prefix, a wrong checksum, padding bits that are set.
std::optional<Secret> bech32_decode(std::string_view text, std::string_view prefix);
// The same of what is no secret: memory that is guarded costs several calls of the kernel.
std::optional<std::string> bech32_decode_public(std::string_view text, std::string_view prefix);

}  // namespace kestrum
