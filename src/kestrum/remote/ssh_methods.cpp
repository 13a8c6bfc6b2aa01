#include "kestrum/remote/ssh_methods.h"

#include <openssl/evp.h>
#include <openssl/hmac.h>

#include <algorithm>
#include <array>
#include <limits>
#include <memory>
#include <vector>

#include "kestrum/base/clock.h"

namespace kestrum {
namespace {

constexpr std::size_t kTimedBytes = 32 << 10;  // a packet of file transfer
constexpr int kTimes = 3;                      // of which the shortest counts

const std::vector<unsigned char>& packet() {
  static const std::vector<unsigned char> kPacket(kTimedBytes);
  return kPacket;
}

template <typename Call>
Nanos shortest_of(Call call) {
  Nanos shortest = std::numeric_limits<Nanos>::max();
  for (int i = 0; i < kTimes; ++i) {
    Nanos began = steady_now();
    call();
    shortest = std::min(shortest, steady_now() - began);
  }
  return shortest;
}

Nanos time_of(const EVP_MD* digest) {
  const std::array<unsigned char, EVP_MAX_MD_SIZE> key{};
  std::array<unsigned char, EVP_MAX_MD_SIZE> code{};
  return shortest_of([&] {
    unsigned length = 0;
    HMAC(digest, key.data(), EVP_MD_get_size(digest), packet().data(), packet().size(), code.data(),
         &length);
  });
}

Nanos time_of(const EVP_CIPHER* cipher) {
  std::unique_ptr<EVP_CIPHER_CTX, decltype(&EVP_CIPHER_CTX_free)> context(EVP_CIPHER_CTX_new(),
                                                                          EVP_CIPHER_CTX_free);
  const std::array<unsigned char, EVP_MAX_KEY_LENGTH> key{};
  const std::array<unsigned char, EVP_MAX_IV_LENGTH> nonce{};
  std::vector<unsigned char> out(kTimedBytes);
  return shortest_of([&] {
    int length = 0;
    EVP_EncryptInit_ex(context.get(), cipher, nullptr, key.data(), nonce.data());
    EVP_EncryptUpdate(context.get(), out.data(), &length, packet().data(),
                      static_cast<int>(packet().size()));
    EVP_EncryptFinal_ex(context.get(), out.data(), &length);
  });
}

}  // namespace

std::string ciphers_by_speed() {
  static const bool kAesIsQuicker = time_of(EVP_aes_256_gcm()) < time_of(EVP_chacha20_poly1305());
  const std::string aes = "aes256-gcm@openssh.com,aes128-gcm@openssh.com",
                    chacha = "chacha20-poly1305@openssh.com",
                    others = "aes256-ctr,aes192-ctr,aes128-ctr";
  return (kAesIsQuicker ? aes + "," + chacha : chacha + "," + aes) + "," + others;
}

std::string message_codes_by_speed() {
  static const bool kLongIsQuicker = time_of(EVP_sha512()) < time_of(EVP_sha256());
  const std::string of_openssh = "-etm@openssh.com";
  std::string first = "hmac-sha2-256", second = "hmac-sha2-512";
  if (kLongIsQuicker) first.swap(second);
  return first + of_openssh + "," + second + of_openssh + "," + first + "," + second +
         ",hmac-sha1";  // the last for servers that know nothing better
}

}  // namespace kestrum
