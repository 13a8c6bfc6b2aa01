// How far the copies of a job's shelf are behind it, as this PC saw them last.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/job/job.h"
#include "kestrum/machine/machine_state.h"

namespace kestrum {

struct CopySeen {
  std::string place;
  Nanos when = 0;               // 0: none was made that this PC knows of
  std::optional<SetId> newest;  // that the copy has
  std::optional<SetId> shelf_newest;
  std::uint64_t problems = 0;  // what could not be copied then

  bool behind() const { return newest != shelf_newest; }
  // "up to c1-3, 2 days ago; the shelf has c1-5".
  std::string in_words(Nanos now) const;
};

// One for each place of [copies].
std::vector<CopySeen> copies_seen(const Job& job, const std::vector<ShelfState>& shelves);

// Whether a copy that is to be made by itself was not made for several of its times.
bool is_overdue(const Job& job, const CopySeen& copy, Nanos now);

}  // namespace kestrum
