// Which files are lost at which restore points, when some content cannot be read back.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/machine/index.h"

namespace kestrum {

// A file that cannot be given back at the restore points from `first` to `last`, which are so many.
struct Loss {
  std::string path;  // absolute
  SetId first, last;
  std::uint64_t points = 0;
};

// The number of the damage that damages content of this size at this place; nothing if it is sound.
using DamagedBy =
    std::function<std::optional<std::size_t>(const ContentLocation& location, std::uint64_t size)>;

struct Losses {
  std::map<std::size_t, std::vector<Loss>> by_damage;  // in path order
  std::map<SetId, std::uint64_t> at;  // restore points that lack files, and how many
};

// Looks through what `index` knows of the content that lies in `damaged_sets`. A file that later
// sets of the chain hold anew is lost only until then. Hard links are lost with the file they name.
Losses find_losses(Index& index, const std::vector<SetId>& damaged_sets,
                   const DamagedBy& damaged_by);

}  // namespace kestrum
