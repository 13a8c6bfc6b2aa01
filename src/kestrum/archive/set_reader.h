// Reads a set's tar stream at any offset, from its parts.
#pragma once

#include <memory>
#include <span>
#include <string>
#include <vector>

#include "kestrum/archive/packed_file.h"
#include "kestrum/archive/set_writer.h"

namespace kestrum {

class SetReader : public ByteSource {
 public:
  // `parts` as the seal lists them; `identities` and `place` outlive the reader. Parts are opened
  // when they are needed; what is wrong with one is thrown then, as Error(kDamage) naming it.
  SetReader(Place& place, std::string folder, std::vector<PartInfo> parts, bool encrypted,
            bool compressed, std::span<const Identity> identities);

  // An upper bound until the last part was opened.
  std::uint64_t size() const override { return size_; }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) override;

 private:
  PackedFileReader& part(std::size_t index);

  Place& place_;
  std::string folder_;
  std::vector<PartInfo> parts_;
  bool encrypted_, compressed_;
  std::span<const Identity> identities_;
  std::unique_ptr<PackedFileReader> open_;
  std::size_t open_index_ = 0;
  std::uint64_t size_ = INT64_MAX;
};

}  // namespace kestrum
