// The header of an age v1 file (age-encryption.org/v1): wraps the file key for its readers.
//
//   age-encryption.org/v1
//   -> X25519 SHARE                      one stanza a recipient, body in Base64 lines of 64
//   BODY
//   --- MAC                              HMAC-SHA-256 of all above, up to and with "---"
#pragma once

#include <optional>
#include <span>
#include <string>

#include "kestrum/base/bytes.h"
#include "kestrum/crypto/age_keys.h"
#include "kestrum/crypto/secret.h"

namespace kestrum {

inline constexpr std::size_t kAgeFileKeySize = 16;
// scrypt work factors, log2: written, and the most that is read (128 * 8 * 2^20 bytes = 1 GiB).
inline constexpr int kScryptLogWritten = 18;
inline constexpr int kScryptLogLimit = 20;
// For tests that wrap many times over; everything else writes kScryptLogWritten.
void set_scrypt_log_written(int log_n);

Secret make_file_key();
std::string age_header_for(const Secret& file_key, std::span<const Recipient> recipients);
std::string age_header_for_passphrase(const Secret& file_key, const Secret& passphrase);

// A parsed header. Its MAC is checked when the file key is unwrapped.
class AgeHeader {
 public:
  // Parses the header at the start of `source`; throws Error(kDamage) naming `what` for anything
  // that the format does not allow.
  static AgeHeader read(ByteSource& source, const std::string& what);

  // Bytes up to the payload (its nonce).
  std::uint64_t size() const { return size_; }
  bool takes_passphrase() const;

  // The file key, or nothing if none of the identities (the passphrase) opens it. Throws
  // Error(kDamage) if one does and the MAC is wrong, or the scrypt work factor is above the limit.
  std::optional<Secret> unwrap(std::span<const Identity> identities) const;
  std::optional<Secret> unwrap_with_passphrase(const Secret& passphrase) const;

 private:
  struct Stanza {
    std::string type;
    std::vector<std::string> arguments;
    std::string body;
  };
  static AgeHeader parse(std::string_view text, const std::string& what);
  Secret checked(Secret file_key) const;

  std::vector<Stanza> stanzas_;
  std::string authenticated_;  // what the MAC covers
  std::string mac_;
  std::uint64_t size_ = 0;
  std::string what_;
};

// HKDF-SHA-256 (RFC 5869) with one block of output.
Secret hkdf_sha256(ByteView key, ByteView salt, std::string_view info);

}  // namespace kestrum
