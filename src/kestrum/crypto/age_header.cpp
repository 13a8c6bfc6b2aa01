#include "kestrum/crypto/age_header.h"

#include <fmt/format.h>
#include <sodium.h>

#include <algorithm>

#include "kestrum/base/base64.h"
#include "kestrum/base/error.h"
#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr std::string_view kVersionLine = "age-encryption.org/v1\n";
constexpr std::string_view kX25519Info = "age-encryption.org/v1/X25519";
constexpr std::string_view kScryptLabel = "age-encryption.org/v1/scrypt";
constexpr std::size_t kHeaderLimit = 64 << 10;
constexpr std::size_t kSealedKeySize = kAgeFileKeySize + 16;
constexpr std::uint8_t kZeroNonce[12] = {};

Secret hmac_sha256(ByteView key, std::initializer_list<ByteView> parts) {
  crypto_auth_hmacsha256_state state;
  crypto_auth_hmacsha256_init(&state, key.data(), key.size());
  for (ByteView part : parts) crypto_auth_hmacsha256_update(&state, part.data(), part.size());
  Secret out(crypto_auth_hmacsha256_BYTES);
  crypto_auth_hmacsha256_final(&state, out.data());
  wipe(&state, sizeof state);
  return out;
}

// The file key sealed with ChaCha20-Poly1305 (RFC 8439) under a key used only once.
std::string seal_key(const Secret& file_key, const Secret& wrapping_key) {
  std::string sealed(kSealedKeySize, '\0');
  crypto_aead_chacha20poly1305_ietf_encrypt(reinterpret_cast<unsigned char*>(sealed.data()),
                                            nullptr, file_key.data(), file_key.size(), nullptr, 0,
                                            nullptr, kZeroNonce, wrapping_key.data());
  return sealed;
}

std::optional<Secret> open_key(std::string_view sealed, const Secret& wrapping_key) {
  Secret file_key(kAgeFileKeySize);
  if (crypto_aead_chacha20poly1305_ietf_decrypt(
          file_key.data(), nullptr, nullptr, reinterpret_cast<const unsigned char*>(sealed.data()),
          sealed.size(), nullptr, 0, kZeroNonce, wrapping_key.data()) != 0) {
    return std::nullopt;
  }
  return file_key;
}

Secret x25519_wrapping_key(const Secret& shared, ByteView share, const Recipient& recipient) {
  Bytes salt(share.begin(), share.end());
  salt.insert(salt.end(), recipient.key.begin(), recipient.key.end());
  return hkdf_sha256(shared.view(), salt, kX25519Info);
}

int scrypt_log_written = kScryptLogWritten;

Secret scrypt_wrapping_key(const Secret& passphrase, std::string_view salt, int log_n) {
  std::string labelled = std::string(kScryptLabel) + std::string(salt);
  Secret key(32);
  if (crypto_pwhash_scryptsalsa208sha256_ll(passphrase.data(), passphrase.size(),
                                            reinterpret_cast<const unsigned char*>(labelled.data()),
                                            labelled.size(), std::uint64_t{1} << log_n, 8, 1,
                                            key.data(), key.size()) != 0) {
    throw Error(ErrorKind::kFailed, "not enough memory to work on the passphrase");
  }
  return key;
}

std::string stanza_text(std::string_view first_line, std::string_view body) {
  std::string encoded = base64_encode_unpadded(body);
  std::string text = fmt::format("-> {}\n", first_line);
  // The last line is always shorter than 64 columns, empty if need be.
  for (std::size_t i = 0;; i += 64) {
    std::string_view line = std::string_view(encoded).substr(i, 64);
    text += line;
    text += '\n';
    if (line.size() < 64) return text;
  }
}

std::string with_mac(std::string header, const Secret& file_key) {
  header += "---";
  Secret mac = hmac_sha256(hkdf_sha256(file_key.view(), {}, "header").view(), {as_bytes(header)});
  return header + " " + base64_encode_unpadded(mac.text()) + "\n";
}

bool is_argument(std::string_view text) {
  return !text.empty() &&
         std::all_of(text.begin(), text.end(), [](char c) { return c >= 33 && c <= 126; });
}

}  // namespace

Secret hkdf_sha256(ByteView key, ByteView salt, std::string_view info) {
  static constexpr std::uint8_t kZeros[32] = {};
  Secret extracted = hmac_sha256(salt.empty() ? ByteView(kZeros) : salt, {key});
  static constexpr std::uint8_t kOne[1] = {1};
  return hmac_sha256(extracted.view(), {as_bytes(info), kOne});
}

Secret make_file_key() {
  Secret key(kAgeFileKeySize);
  randombytes_buf(key.data(), key.size());
  return key;
}

std::string age_header_for(const Secret& file_key, std::span<const Recipient> recipients) {
  std::string header(kVersionLine);
  for (const Recipient& recipient : recipients) {
    Secret ephemeral(32), shared(32);
    randombytes_buf(ephemeral.data(), ephemeral.size());
    std::array<std::uint8_t, 32> share;
    crypto_scalarmult_base(share.data(), ephemeral.data());
    if (crypto_scalarmult(shared.data(), ephemeral.data(), recipient.key.data()) != 0) {
      throw Error(ErrorKind::kUsage, "not a usable age recipient: " + recipient.to_string());
    }
    Secret wrapping_key = x25519_wrapping_key(shared, share, recipient);
    header += stanza_text("X25519 " + base64_encode_unpadded(as_text(share)),
                          seal_key(file_key, wrapping_key));
  }
  return with_mac(std::move(header), file_key);
}

void set_scrypt_log_written(int log_n) {
  scrypt_log_written = log_n;
}

std::string age_header_for_passphrase(const Secret& file_key, const Secret& passphrase) {
  std::string salt(16, '\0');
  randombytes_buf(salt.data(), salt.size());
  Secret wrapping_key = scrypt_wrapping_key(passphrase, salt, scrypt_log_written);
  std::string header(kVersionLine);
  header +=
      stanza_text(fmt::format("scrypt {} {}", base64_encode_unpadded(salt), scrypt_log_written),
                  seal_key(file_key, wrapping_key));
  return with_mac(std::move(header), file_key);
}

AgeHeader AgeHeader::read(ByteSource& source, const std::string& what) {
  std::string text(std::min<std::uint64_t>(source.size(), kHeaderLimit), '\0');
  source.read_at(0, {reinterpret_cast<std::uint8_t*>(text.data()), text.size()});
  return parse(text, what);
}

AgeHeader AgeHeader::parse(std::string_view text, const std::string& what) {
  auto bad = [&](std::string_view why) {
    return Error(ErrorKind::kDamage, fmt::format("{}: not a valid age file: {}", what, why));
  };
  std::size_t at = 0;
  auto next_line = [&]() -> std::string_view {
    std::size_t end = text.find('\n', at);
    if (end == std::string_view::npos) throw bad("the header does not end");
    std::string_view line = text.substr(at, end - at);
    at = end + 1;
    return line;
  };
  if (!text.starts_with(kVersionLine)) throw bad("it does not begin with age-encryption.org/v1");
  at = kVersionLine.size();

  AgeHeader header;
  header.what_ = what;
  for (;;) {
    std::size_t line_start = at;
    std::string_view line = next_line();
    if (line.starts_with("---")) {
      if (!line.starts_with("--- ")) throw bad("the closing line of the header");
      auto mac = base64_decode_unpadded(line.substr(4));
      if (!mac || mac->size() != 32) throw bad("the header's MAC");
      header.mac_ = *mac;
      header.authenticated_ = std::string(text.substr(0, line_start + 3));
      header.size_ = at;
      break;
    }
    if (!line.starts_with("-> ")) throw bad("a stanza does not begin with \"-> \"");
    Stanza stanza;
    stanza.arguments = split(line.substr(3), ' ');
    for (const auto& argument : stanza.arguments) {
      if (!is_argument(argument)) throw bad("a stanza's arguments");
    }
    stanza.type = stanza.arguments.front();
    stanza.arguments.erase(stanza.arguments.begin());
    std::string encoded;
    for (;;) {
      std::string_view body_line = next_line();
      if (body_line.size() > 64) throw bad("a stanza's body has a long line");
      encoded += body_line;
      if (body_line.size() < 64) break;
    }
    auto body = base64_decode_unpadded(encoded);
    if (!body) throw bad("a stanza's body is not canonical Base64");
    stanza.body = *body;
    header.stanzas_.push_back(std::move(stanza));
  }
  if (header.stanzas_.empty()) throw bad("no stanza in the header");
  for (const Stanza& stanza : header.stanzas_) {
    if (stanza.type == "X25519") {
      if (stanza.arguments.size() != 1) throw bad("an X25519 stanza's arguments");
      auto share = base64_decode_unpadded(stanza.arguments[0]);
      if (!share || share->size() != 32) throw bad("an X25519 stanza's share");
      if (stanza.body.size() != kSealedKeySize) throw bad("an X25519 stanza's body");
    } else if (stanza.type == "scrypt") {
      if (header.stanzas_.size() != 1) throw bad("a scrypt stanza that is not alone");
      if (stanza.arguments.size() != 2) throw bad("a scrypt stanza's arguments");
      auto salt = base64_decode_unpadded(stanza.arguments[0]);
      if (!salt || salt->size() != 16) throw bad("a scrypt stanza's salt");
      const std::string& factor = stanza.arguments[1];
      bool plain_number = !factor.empty() && factor.size() <= 2 && factor[0] >= '1' &&
                          factor[0] <= '9' &&
                          std::isdigit(static_cast<unsigned char>(factor.back()));
      if (!plain_number) throw bad("a scrypt stanza's work factor");
      if (stanza.body.size() != kSealedKeySize) throw bad("a scrypt stanza's body");
    }
  }
  return header;
}

bool AgeHeader::takes_passphrase() const {
  return stanzas_.front().type == "scrypt";
}

Secret AgeHeader::checked(Secret file_key) const {
  Secret mac =
      hmac_sha256(hkdf_sha256(file_key.view(), {}, "header").view(), {as_bytes(authenticated_)});
  if (sodium_memcmp(mac.data(), mac_.data(), mac.size()) != 0) {
    throw Error(ErrorKind::kDamage, what_ + ": not a valid age file: the header's MAC is wrong");
  }
  return file_key;
}

std::optional<Secret> AgeHeader::unwrap(std::span<const Identity> identities) const {
  for (const Stanza& stanza : stanzas_) {
    if (stanza.type != "X25519") continue;
    std::string share = *base64_decode_unpadded(stanza.arguments[0]);
    for (const Identity& identity : identities) {
      Secret shared(32);
      // Fails for an all-zero shared secret, which a share of low order would give.
      if (crypto_scalarmult(shared.data(), identity.scalar().data(),
                            reinterpret_cast<const unsigned char*>(share.data())) != 0) {
        throw Error(ErrorKind::kDamage, what_ + ": not a valid age file: a share of low order");
      }
      Secret key = x25519_wrapping_key(shared, as_bytes(share), identity.recipient());
      if (auto file_key = open_key(stanza.body, key)) return checked(std::move(*file_key));
    }
  }
  return std::nullopt;
}

std::optional<Secret> AgeHeader::unwrap_with_passphrase(const Secret& passphrase) const {
  const Stanza& stanza = stanzas_.front();
  if (stanza.type != "scrypt") return std::nullopt;
  int log_n = std::stoi(stanza.arguments[1]);
  if (log_n > kScryptLogLimit) {
    throw Error(ErrorKind::kDamage,
                fmt::format("{}: its scrypt work factor 2^{} is above the limit of 2^{}", what_,
                            log_n, kScryptLogLimit));
  }
  std::string salt = *base64_decode_unpadded(stanza.arguments[0]);
  Secret key = scrypt_wrapping_key(passphrase, salt, log_n);
  if (auto file_key = open_key(stanza.body, key)) return checked(std::move(*file_key));
  return std::nullopt;
}

}  // namespace kestrum
