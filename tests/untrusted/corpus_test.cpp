// What fuzzing found, and what it started from: run through the same targets in every build.
#include <gtest/gtest.h>

#include "kestrum/base/file.h"
#include "kestrum/crypto/secret.h"
#include "targets.h"

namespace kestrum::test {
namespace {

TEST(Corpus, EveryInputEndsWell) {
  crypto_start();
  for (const fuzz::Target& target : fuzz::targets()) {
    std::string folder = std::string(KESTRUM_CORPUS) + "/" + target.name;
    auto inputs = list_folder(folder);
    EXPECT_FALSE(inputs.empty()) << folder;
    for (const auto& name : inputs) {
      SCOPED_TRACE(folder + "/" + name);
      std::string input = read_file(folder + "/" + name);
      target.run(as_bytes(input));
    }
  }
}

}  // namespace
}  // namespace kestrum::test
