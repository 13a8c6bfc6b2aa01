// On which disks of a shelf content lies.
#pragma once

#include <cstdint>
#include <set>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/machine/index.h"

namespace kestrum {

// A stretch of a set's tar stream, and the disk that it lies on: how often the shelf had moved.
struct StreamStretch {
  SetId set;
  std::uint64_t begin = 0, end = 0;  // offsets; the second is behind it
  std::uint64_t disk = 0;
};

// Everything that reading content of `size` bytes may take, heads of tar entries among it, cut
// where one disk ends and the next begins. Rather too much than too little: how long a head is, it
// alone says. What lies in no sealed set is left out.
std::vector<StreamStretch> stretches_of(const Shelf& shelf, const ContentLocation& location,
                                        std::uint64_t size);

// The disks that reading it takes.
std::set<std::uint64_t> disks_of(const Shelf& shelf, const ContentLocation& location,
                                 std::uint64_t size);
// Whether they are plugged in.
bool is_at_hand(const OpenShelf& open, const ContentLocation& location, std::uint64_t size);

}  // namespace kestrum
