// X25519 recipients and identities of the age v1 format (age-encryption.org/v1).
#pragma once

#include <array>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "kestrum/crypto/secret.h"

namespace kestrum {

struct Recipient {
  std::array<std::uint8_t, 32> key{};

  static std::optional<Recipient> parse(std::string_view text);  // "age1..."
  std::string to_string() const;
  bool operator==(const Recipient&) const = default;
};

class Identity {
 public:
  static Identity generate();
  static std::optional<Identity> parse(std::string_view text);  // "AGE-SECRET-KEY-1..."
  Secret to_text() const;
  const Recipient& recipient() const { return recipient_; }
  const Secret& scalar() const { return scalar_; }

 private:
  explicit Identity(Secret scalar);
  Secret scalar_;
  Recipient recipient_;
};

// The identities of an age identity file; lines that begin with '#' are comments.
// Throws Error(kPassphrase) naming `what` if a line is not an identity or there is none.
std::vector<Identity> parse_identity_file(std::string_view text, const std::string& what);

}  // namespace kestrum
