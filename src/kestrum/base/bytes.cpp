#include "kestrum/base/bytes.h"

#include <unistd.h>

#include <algorithm>
#include <cerrno>

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

Bytes noise(std::size_t length) {
  constexpr std::size_t kAtOnce = 256;  // getentropy(3) gives no more
  Bytes bytes(length);
  for (std::size_t at = 0; at < length; at += kAtOnce) {
    if (::getentropy(bytes.data() + at, std::min(kAtOnce, length - at)) != 0) {
      throw system_error(errno, "random bytes");
    }
  }
  return bytes;
}

}  // namespace kestrum
