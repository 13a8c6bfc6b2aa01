// Something on a shelf that is not as it was written.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/inspect/losses.h"

namespace kestrum {

struct Damage {
  std::optional<SetId> set;  // nothing: the shelf's own files
  std::string file;          // relative to the set's folder, or to the shelf
  std::string reason;
  std::vector<std::string> paths;  // absolute, sorted; the files that are damaged, if that is known
  std::vector<Loss> losses;        // and at which restore points
  bool mended = false;             // it was found, and is made good: as it was written again
  bool no_key = false;             // nothing is wrong with it, but no key that is here opens it
};

}  // namespace kestrum
