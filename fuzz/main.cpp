// libFuzzer's entry; the variable KESTRUM_FUZZ_TARGET names the target.
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
    const char* name = std::getenv("KESTRUM_FUZZ_TARGET");
    if (name == nullptr) std::abort();
    for (const auto& target : kestrum::fuzz::targets()) {
      if (std::strcmp(target.name, name) == 0) return &target;
    }
    std::abort();
  }();
  kTarget->run({data, size});
  return 0;
}
