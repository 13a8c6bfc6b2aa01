#include "kestrum/crypto/secret.h"

#include <sodium.h>

#include "kestrum/base/error.h"

namespace kestrum {

void wipe(void* memory, std::size_t bytes) noexcept {
  sodium_memzero(memory, bytes);
}

void* allocate_locked(std::size_t bytes) {
  // What is taken before the library was told to start, by a test, is as good.
  crypto_start();
  void* memory = ::sodium_malloc(bytes);
  if (memory == nullptr) throw std::bad_alloc();
  return memory;
}

void free_locked(void* memory) noexcept {
  ::sodium_free(memory);
}

void crypto_start() {
  if (sodium_init() < 0) throw Error(ErrorKind::kFailed, "the cryptographic library cannot start");
}

}  // namespace kestrum
