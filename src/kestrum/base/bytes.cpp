#include "kestrum/base/bytes.h"

#include <algorithm>

#include "kestrum/base/error.h"

namespace kestrum {

void MemorySource::read_at(std::uint64_t offset, std::span<std::uint8_t> out) {
  if (offset > data_.size() || out.size() > data_.size() - offset) {
    throw Error(ErrorKind::kDamage, "ends too early");
  }
  std::copy_n(data_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
}

Bytes read_all(ByteSource& source, std::uint64_t limit, const std::string& what) {
  if (source.size() > limit) throw Error(ErrorKind::kDamage, what + ": too long");
  Bytes data(source.size());
  source.read_at(0, data);
  return data;
}

}  // namespace kestrum
