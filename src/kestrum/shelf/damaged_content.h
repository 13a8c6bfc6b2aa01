// What lies in a set's tar stream where it cannot be read back.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/chain/set_id.h"
#include "kestrum/shelf/seal.h"

namespace kestrum {

// Where content lies: the set, the offset of the tar entry, and that entry's path.
struct ContentLocation {
  SetId set;
  std::uint64_t tar_offset = 0;
  std::string path;
};

class DamagedContent {
 public:
  // The stretch of the stream that lies in part number `part`, from 0, of a set.
  void add(const Seal& seal, std::size_t part);
  bool empty() const { return stretches_.empty(); }
  // The first stretch, by the order of add(), that a file of `size` bytes at this place reaches
  // into. Its headers are reckoned generously: what ends shortly before one does too.
  std::optional<std::size_t> reached_by(const ContentLocation& location, std::uint64_t size) const;

 private:
  struct Stretch {
    SetId set;
    std::uint64_t from = 0, to = 0;  // offsets in the stream
  };
  std::vector<Stretch> stretches_;
};

}  // namespace kestrum
