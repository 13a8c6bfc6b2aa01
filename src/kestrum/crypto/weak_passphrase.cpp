#include "kestrum/crypto/weak_passphrase.h"

#include <algorithm>
#include <array>
#include <string_view>

namespace kestrum {
namespace {

constexpr std::size_t kLeastCharacters = 8;

// Of eight characters and more: shorter ones are weak anyway. Lower case.
constexpr std::array<std::string_view, 32> kGuessedFirst = {
    "12345678",  "123456789",   "1234567890", "87654321",     "11111111", "00000000",   "password",
    "password1", "password123", "passw0rd",   "passphrase",   "qwertyui", "qwertyuiop", "qwertz123",
    "qwerty123", "1q2w3e4r",    "1qaz2wsx",   "zaq12wsx",     "abcdefgh", "abcd1234",   "iloveyou",
    "sunshine",  "princess",    "football",   "baseball",     "trustno1", "welcome1",   "letmein1",
    "whatever",  "backup123",   "changeme",   "administrator"};

bool same_ignoring_case(std::string_view a, std::string_view lower) {
  return std::equal(a.begin(), a.end(), lower.begin(), lower.end(), [](char x, char y) {
    return (x >= 'A' && x <= 'Z' ? static_cast<char>(x - 'A' + 'a') : x) == y;
  });
}

}  // namespace

std::optional<std::string> why_weak(const Secret& passphrase) {
  std::string_view text = passphrase.text();
  auto characters = std::count_if(text.begin(), text.end(), [](char c) {
    return (static_cast<unsigned char>(c) & 0xC0) != 0x80;  // not a byte within one of UTF-8
  });
  if (static_cast<std::size_t>(characters) < kLeastCharacters) {
    return "it has fewer than 8 characters";
  }
  if (std::all_of(text.begin(), text.end(), [&](char c) { return c == text[0]; })) {
    return "it is one character again and again";
  }
  for (std::string_view guess : kGuessedFirst) {
    if (same_ignoring_case(text, guess)) return "it is among those that are guessed first";
  }
  return std::nullopt;
}

}  // namespace kestrum
