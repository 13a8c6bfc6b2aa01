#include "kestrum/crypto/signature.h"

#include <sodium.h>

#include <algorithm>

#include "kestrum/base/base64.h"
#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/crypto/digest.h"

namespace kestrum {
namespace {

constexpr std::string_view kUntrusted = "untrusted comment: ";
constexpr std::string_view kTrusted = "trusted comment: ";

std::array<std::uint8_t, 64> prehash(ByteView message) {
  std::array<std::uint8_t, 64> hash;
  crypto_generichash(hash.data(), hash.size(), message.data(), message.size(), nullptr, 0);
  return hash;
}

}  // namespace

std::optional<VerifyKey> VerifyKey::parse(std::string_view text) {
  auto raw = base64_decode(text);
  if (!raw || raw->size() != 42 || !raw->starts_with("Ed")) return std::nullopt;
  VerifyKey key;
  std::copy_n(raw->begin() + 2, 8, key.id.begin());
  std::copy_n(raw->begin() + 10, 32, key.key.begin());
  return key;
}

std::string VerifyKey::fingerprint() const {
  std::string hex = to_hex(digest_of(key)).substr(0, 32), out;
  for (std::size_t at = 0; at < hex.size(); at += 4)
    out += (at == 0 ? "" : "-") + hex.substr(at, 4);
  return out;
}

std::string VerifyKey::to_string() const {
  std::string raw = "Ed";
  raw.append(as_text(id)).append(as_text(key));
  return base64_encode(raw);
}

SigningKey SigningKey::generate() {
  SigningKey key;
  key.secret_ = Secret(crypto_sign_SECRETKEYBYTES);
  crypto_sign_keypair(key.verify_key_.key.data(), key.secret_.data());
  randombytes_buf(key.verify_key_.id.data(), key.verify_key_.id.size());
  return key;
}

SigningKey SigningKey::load(std::string_view text) {
  auto raw = base64_decode(trimmed(text));
  if (!raw || raw->size() != 8 + crypto_sign_SECRETKEYBYTES) {
    throw Error(ErrorKind::kDamage, "the signing key of this machine is damaged");
  }
  SigningKey key;
  std::copy_n(raw->begin(), 8, key.verify_key_.id.begin());
  key.secret_ = Secret(std::string_view(*raw).substr(8));
  crypto_sign_ed25519_sk_to_pk(key.verify_key_.key.data(), key.secret_.data());
  wipe(raw->data(), raw->size());
  return key;
}

Secret SigningKey::save() const {
  std::string raw(as_text(verify_key_.id));
  raw.append(secret_.text());
  std::string encoded = base64_encode(raw);
  Secret text{std::string_view(encoded)};
  text.push_back('\n');
  wipe(raw.data(), raw.size());
  wipe(encoded.data(), encoded.size());
  return text;
}

std::string SigningKey::sign(ByteView message, std::string_view trusted_comment) const {
  auto hash = prehash(message);
  std::array<std::uint8_t, crypto_sign_BYTES> signature, global;
  crypto_sign_detached(signature.data(), nullptr, hash.data(), hash.size(), secret_.data());
  std::string covered(as_text(signature));
  covered += trusted_comment;
  crypto_sign_detached(global.data(), nullptr,
                       reinterpret_cast<const unsigned char*>(covered.data()), covered.size(),
                       secret_.data());
  std::string raw = "ED";
  raw.append(as_text(verify_key_.id)).append(as_text(signature));
  return std::string(kUntrusted) + "signature of a backup shelf\n" + base64_encode(raw) + "\n" +
         std::string(kTrusted) + std::string(trusted_comment) + "\n" +
         base64_encode(as_text(global)) + "\n";
}

std::optional<std::array<std::uint8_t, 8>> signer_id(std::string_view signature_file) {
  std::vector<std::string> lines = split(signature_file, '\n');
  auto raw = lines.size() < 4 ? std::nullopt : base64_decode(lines[1]);
  if (!raw || raw->size() != 74 || !raw->starts_with("ED")) return std::nullopt;
  std::array<std::uint8_t, 8> id{};
  std::copy_n(as_bytes(*raw).begin() + 2, id.size(), id.begin());
  return id;
}

bool signature_valid(ByteView message, std::string_view signature_file,
                     std::span<const VerifyKey> keys) {
  std::vector<std::string> lines = split(signature_file, '\n');
  if (lines.size() < 4 || !lines[0].starts_with(kUntrusted) || !lines[2].starts_with(kTrusted)) {
    return false;
  }
  if (lines.size() > 5 || (lines.size() == 5 && !lines[4].empty())) return false;
  auto raw = base64_decode(lines[1]);
  auto global = base64_decode(lines[3]);
  if (!raw || raw->size() != 74 || !raw->starts_with("ED") || !global ||
      global->size() != crypto_sign_BYTES) {
    return false;
  }
  std::string signature = raw->substr(10);
  std::string covered = signature + lines[2].substr(kTrusted.size());
  auto hash = prehash(message);
  auto bytes = [](const std::string& s) {
    return reinterpret_cast<const unsigned char*>(s.data());
  };
  return std::any_of(keys.begin(), keys.end(), [&](const VerifyKey& key) {
    return std::equal(key.id.begin(), key.id.end(), as_bytes(*raw).begin() + 2) &&
           crypto_sign_verify_detached(bytes(signature), hash.data(), hash.size(),
                                       key.key.data()) == 0 &&
           crypto_sign_verify_detached(bytes(*global), bytes(covered), covered.size(),
                                       key.key.data()) == 0;
  });
}

}  // namespace kestrum
