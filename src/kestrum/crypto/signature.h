// Ed25519 signatures in the minisign format (prehashed with BLAKE2b-512), so that
// `minisign -V -P KEY -m FILE` checks them by hand.
//
//   untrusted comment: ...
//   base64( "ED" || key id (8) || signature (64) )
//   trusted comment: ...
//   base64( signature over (signature || trusted comment) )
#pragma once

#include <array>
#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "kestrum/crypto/secret.h"

namespace kestrum {

struct VerifyKey {
  std::array<std::uint8_t, 8> id{};
  std::array<std::uint8_t, 32> key{};

  // The one-line form that `minisign -P` takes: base64("Ed" || id || key).
  static std::optional<VerifyKey> parse(std::string_view text);
  std::string to_string() const;
  // 128 bits of the key's BLAKE3 digest in hex, four digits and a hyphen: for people to compare.
  std::string fingerprint() const;
  bool operator==(const VerifyKey&) const = default;
};

class SigningKey {
 public:
  static SigningKey generate();
  // The text that save() gave; throws Error(kDamage).
  static SigningKey load(std::string_view text);
  Secret save() const;

  const VerifyKey& verify_key() const { return verify_key_; }
  // The contents of FILE.minisig.
  std::string sign(ByteView message, std::string_view trusted_comment) const;

 private:
  VerifyKey verify_key_;
  Secret secret_;  // 64 bytes, as libsodium keeps it
};

// Whether `signature_file` is a valid signature of `message` by one of `keys`.
bool signature_valid(ByteView message, std::string_view signature_file,
                     std::span<const VerifyKey> keys);

// The id of the key that a signature claims to be by; nothing if it is malformed.
std::optional<std::array<std::uint8_t, 8>> signer_id(std::string_view signature_file);

}  // namespace kestrum
