// What differs from one moment to another, kept in a temporary table of the index until the moves
// among it are known.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>

#include "kestrum/machine/index.h"

namespace kestrum {

enum class Difference { kNew, kChanged, kMoved, kGone };

struct DifferingPath {
  Difference what = Difference::kNew;
  std::string path;                     // of what moved, the new one
  std::string moved_from;               // empty unless it moved
  std::uint64_t before = 0, after = 0;  // sizes, bytes
};

// One at a time on an index; a new one empties the table. Paths are relative to "/".
class DifferingPaths {
 public:
  explicit DifferingPaths(Index& index);

  // Of what is new or gone, `digest` is that of its content, if it is known.
  void add(const DifferingPath& found, const std::optional<Digest>& digest);
  // New content that a path that is gone had is taken for moved. `digest_of` reads what has no
  // digest yet, and is asked only where a size agrees.
  void find_moves(const std::function<std::optional<Digest>(const std::string&)>& digest_of);
  // Calls `visit` in groups: new, changed, moved, gone, each in path order.
  void each(const std::function<void(const DifferingPath&)>& visit);

 private:
  SQLite::Database& database_;
  SQLite::Statement put_;
};

}  // namespace kestrum
