#include "kestrum/remote/ssh_methods.h"

#include <openssl/evp.h>
#include <openssl/hmac.h>

#include <algorithm>
#include <array>
#include <limits>
#include <vector>

#include "kestrum/base/clock.h"

namespace kestrum {
namespace {

constexpr std::size_t kTimedBytes = 32 << 10;  // a packet of file transfer
constexpr int kTimes = 3;                      // of which the shortest counts

Nanos time_of(const EVP_MD* digest) {
  const std::vector<unsigned char> bytes(kTimedBytes);
  const std::array<unsigned char, EVP_MAX_MD_SIZE> key{};
  std::array<unsigned char, EVP_MAX_MD_SIZE> code{};
  Nanos shortest = std::numeric_limits<Nanos>::max();
  for (int i = 0; i < kTimes; ++i) {
    Nanos began = steady_now();
    unsigned length = 0;
    HMAC(digest, key.data(), EVP_MD_get_size(digest), bytes.data(), bytes.size(), code.data(),
         &length);
    shortest = std::min(shortest, steady_now() - began);
  }
  return shortest;
}

}  // namespace

std::vector<std::string> message_codes_by_speed() {
  static const bool kLongIsQuicker = time_of(EVP_sha512()) < time_of(EVP_sha256());
  std::string first = "hmac-sha2-256", second = "hmac-sha2-512";
  if (kLongIsQuicker) first.swap(second);
  return {first + "-etm@openssh.com", second + "-etm@openssh.com", first, second,
          "hmac-sha1"};  // the last for servers that know nothing better
}

}  // namespace kestrum
