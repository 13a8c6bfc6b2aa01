// What a set that is being made does not hold, though an older restore point does: docs/format.md,
// "lacking". As long as it names a set, the chain of that set is not pruned.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/machine/index.h"

namespace kestrum {

// Paths (relative to "/") whose state could not be told, or whose content could not be read: each
// stands for itself and all below it. Beyond a number of them folders stand for what they hold,
// which is told too much rather than too little.
class UnreadPaths {
 public:
  void add(const std::string& path);
  const std::vector<std::string>& paths() const { return paths_; }

 private:
  void fold();
  std::vector<std::string> paths_;
};

// What is held against the new set.
struct OwedContent {
  // What the set that it follows, or takes the place of, lacks. Nothing: not known.
  std::optional<std::vector<Lacking>> lacking = std::vector<Lacking>{};
  struct Compared {
    SetId set;                   // what it knew and could not be read now is lacking
    std::optional<SetId> since;  // but for what this one, its ancestor, knew already
  };
  std::vector<Compared> compared;
};

// What the owed content and what could not be read make of the new set's list. Nothing: not known.
std::optional<std::vector<Lacking>> lacking_now(Index& index, const OwedContent& owed,
                                                const UnreadPaths& unread);

}  // namespace kestrum
