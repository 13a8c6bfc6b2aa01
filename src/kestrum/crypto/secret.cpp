#include "kestrum/crypto/secret.h"

#include <sodium.h>
#include <unistd.h>

#include <cerrno>

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

Secret read_secret(int fd, const std::string& what, std::size_t limit) {
  Secret secret;
  char c = 0;
  for (ssize_t n; (n = ::read(fd, &c, 1)) != 0;) {
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw system_error(errno, what, ErrorKind::kPassphrase);
    secret.push_back(c);
    if (secret.size() > limit) throw Error(ErrorKind::kPassphrase, what + ": too long");
  }
  return secret;
}

}  // namespace kestrum
