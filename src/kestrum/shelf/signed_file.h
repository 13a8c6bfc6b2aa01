// Files of a shelf that a machine signs.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "kestrum/crypto/signature.h"
#include "kestrum/place/place.h"

namespace kestrum {

inline constexpr std::uint64_t kSignedFileLimit = 16 << 20;  // bytes

// Writes FILE and FILE.minisig. At every moment the signature fits FILE or FILE.new.
void write_signed(Place& place, const std::string& path, std::string_view text,
                  const SigningKey& key, const std::string& comment);
// Finishes a write_signed that was cut: true if FILE.new, which the signature fits, became FILE.
bool finish_signed(Place& place, const std::string& path, const std::vector<VerifyKey>& keys);

// The text of FILE if its signature is by one of `keys` (by anybody, or none, without any); nothing
// if it is not, or cannot be read. Throws Error(kPlace).
std::optional<std::string> read_signed(Place& place, const std::string& path,
                                       const std::vector<VerifyKey>& keys);

// Signs FILE anew, as it is, where its signature is by one of `old` (whoever signed it, without
// any). False if there is none, or it is another's.
bool sign_anew(Place& place, const std::string& path, const std::vector<VerifyKey>& old,
               const SigningKey& key, const std::string& comment);

}  // namespace kestrum
