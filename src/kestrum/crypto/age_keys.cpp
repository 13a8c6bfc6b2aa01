#include "kestrum/crypto/age_keys.h"

#include <fmt/format.h>
#include <sodium.h>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/crypto/bech32.h"

namespace kestrum {

std::optional<Recipient> Recipient::parse(std::string_view text) {
  auto data = bech32_decode_public(text, "age");
  if (!data || data->size() != 32 || lower_ascii(text) != text) return std::nullopt;
  Recipient recipient;
  std::copy(data->data(), data->data() + 32, recipient.key.begin());
  return recipient;
}

std::string Recipient::to_string() const {
  return std::string(bech32_encode("age", key).text());
}

Identity::Identity(Secret scalar) : scalar_(std::move(scalar)) {
  crypto_scalarmult_base(recipient_.key.data(), scalar_.data());
}

Identity Identity::generate() {
  Secret scalar(32);
  randombytes_buf(scalar.data(), scalar.size());
  return Identity(std::move(scalar));
}

std::optional<Identity> Identity::parse(std::string_view text) {
  auto data = bech32_decode(text, "age-secret-key-");
  if (!data || data->size() != 32 || text[0] != 'A') return std::nullopt;
  return Identity(std::move(*data));
}

Secret Identity::to_text() const {
  Secret text = bech32_encode("age-secret-key-", scalar_.view());
  for (std::size_t i = 0; i < text.size(); ++i) {
    std::uint8_t& c = text.data()[i];
    if (c >= 'a' && c <= 'z') c = static_cast<std::uint8_t>(c - 32);
  }
  return text;
}

std::vector<Identity> parse_identity_file(std::string_view text, const std::string& what) {
  std::vector<Identity> identities;
  int line_number = 0;
  for (std::size_t begin = 0; begin < text.size();) {
    std::size_t end = std::min(text.find('\n', begin), text.size());
    std::string_view line = trimmed(text.substr(begin, end - begin));
    begin = end + 1;
    ++line_number;
    if (line.empty() || line[0] == '#') continue;
    auto identity = Identity::parse(line);
    if (!identity) {
      throw Error(ErrorKind::kPassphrase,
                  fmt::format("{}: line {} is not an age identity", what, line_number));
    }
    identities.push_back(std::move(*identity));
  }
  if (identities.empty()) throw Error(ErrorKind::kPassphrase, what + ": no age identity in it");
  return identities;
}

}  // namespace kestrum
