#pragma once

namespace kestrum::test {

// What passphrases cost in tests, log2; see kScryptLogWritten.
inline constexpr int kCheapScrypt = 10;

}  // namespace kestrum::test
