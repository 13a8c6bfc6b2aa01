#include "kestrum/crypto/secret.h"

#include <sodium.h>

#include "kestrum/base/error.h"

namespace kestrum {

void wipe(void* memory, std::size_t bytes) noexcept {
  sodium_memzero(memory, bytes);
}

void crypto_start() {
  if (sodium_init() < 0) throw Error(ErrorKind::kFailed, "the cryptographic library cannot start");
}

}  // namespace kestrum
