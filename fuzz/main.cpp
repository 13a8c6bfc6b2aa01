// libFuzzer's entry for one target; FUZZ_TARGET is its name.
#include <cstdlib>
#include <cstring>

#include "kestrum/crypto/secret.h"
#include "targets.h"

extern "C" int LLVMFuzzerInitialize(int*, char***) {
  kestrum::crypto_start();
  return 0;
}

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const kestrum::fuzz::Target* const kTarget = [] {
    for (const auto& target : kestrum::fuzz::targets()) {
      if (std::strcmp(target.name, FUZZ_TARGET) == 0) return &target;
    }
    std::abort();
  }();
  kTarget->run({data, size});
  return 0;
}
