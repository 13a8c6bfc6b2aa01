// Reads a set's tar stream at any offset, from its parts.
#pragma once

#include <memory>
#include <span>
#include <string>
#include <vector>

#include "kestrum/archive/packed_file.h"
#include "kestrum/archive/set_writer.h"
#include "kestrum/archive/stream_spool.h"

namespace kestrum {

// A set's stream, as its seal describes it.
struct SetStream {
  std::string folder;  // relative to the place
  std::vector<PartInfo> parts;
  bool encrypted = false, compressed = false;
  const StreamSpool* spool = nullptr;  // holds pieces of it, by its folder; outlives the reader
};

// Used by one thread at a time.
class SetReader : public ByteSource {
 public:
  // `identities` and `place` outlive the reader. Parts are opened when they are needed; what is
  // wrong with one is thrown then, as Error(kDamage) naming it.
  SetReader(Place& place, SetStream stream, std::span<const Identity> identities);

  // An upper bound until the last part was opened.
  std::uint64_t size() const override { return size_; }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) override;
  // Where the part ends in which `offset` lies; throws as read_at().
  std::uint64_t part_end(std::uint64_t offset);

 private:
  std::size_t index_at(std::uint64_t offset) const;
  PackedFileReader& part(std::size_t index);

  Place& place_;
  SetStream stream_;
  std::span<const Identity> identities_;
  std::unique_ptr<PackedFileReader> open_;
  std::size_t open_index_ = 0;
  std::uint64_t size_ = INT64_MAX;
};

}  // namespace kestrum
