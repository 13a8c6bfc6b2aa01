// Files that alone are wanted, by category or by pattern.
#pragma once

#include <string>
#include <string_view>
#include <unordered_set>
#include <vector>

#include "kestrum/select/pattern.h"

namespace kestrum {

class Only {
 public:
  // Categories such as "documents" and patterns such as "*.dwg"; none: every file. Throws
  // Error(kUsage) naming what is neither.
  explicit Only(const std::vector<std::string>& kinds);

  // Of a regular file; `path` is relative to "/".
  bool takes(std::string_view path) const;

 private:
  std::unordered_set<std::string> extensions_;
  PatternSet patterns_;
};

}  // namespace kestrum
