// What is fuzzed: every parser of what comes from a disk or a person. Each target takes any bytes
// and must end in a value or in an Error; what it can check of a value, it checks (std::abort).
#pragma once

#include <string>
#include <vector>

#include "kestrum/base/bytes.h"

namespace kestrum::fuzz {

struct Target {
  const char* name;  // of its corpus: fuzz/corpus/<name>/
  void (*run)(ByteView input);
};

const std::vector<Target>& targets();

}  // namespace kestrum::fuzz
