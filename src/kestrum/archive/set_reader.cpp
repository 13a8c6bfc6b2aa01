#include "kestrum/archive/set_reader.h"

#include <algorithm>

#include "kestrum/base/error.h"

namespace kestrum {

SetReader::SetReader(Place& place, SetStream stream, std::span<const Identity> identities)
    : place_(place), stream_(std::move(stream)), identities_(identities) {}

PackedFileReader& SetReader::part(std::size_t index) {
  if (open_ && open_index_ == index) return *open_;
  open_.reset();
  const PartInfo& info = stream_.parts[index];
  std::string path = stream_.folder + "/" + info.name;
  auto reader =
      std::make_unique<PackedFileReader>(place_.open(path), stream_.encrypted, stream_.compressed,
                                         Unlocker{identities_, nullptr}, path);
  bool last = index + 1 == stream_.parts.size();
  if (!last && info.tar_offset + reader->size() != stream_.parts[index + 1].tar_offset) {
    throw Error(ErrorKind::kDamage, path + ": its length does not agree with the seal");
  }
  if (last) size_ = info.tar_offset + reader->size();
  open_ = std::move(reader);
  open_index_ = index;
  return *open_;
}

std::size_t SetReader::index_at(std::uint64_t offset) const {
  auto behind = std::upper_bound(
      stream_.parts.begin(), stream_.parts.end(), offset,
      [](std::uint64_t value, const PartInfo& info) { return value < info.tar_offset; });
  if (behind == stream_.parts.begin())
    throw Error(ErrorKind::kDamage, stream_.folder + ": a part is missing");
  return static_cast<std::size_t>(behind - stream_.parts.begin()) - 1;
}

std::uint64_t SetReader::part_end(std::uint64_t offset) {
  std::size_t index = index_at(offset);
  return stream_.parts[index].tar_offset + part(index).size();
}

void SetReader::read_at(std::uint64_t offset, std::span<std::uint8_t> out) {
  while (!out.empty()) {
    if (stream_.spool != nullptr) {
      std::uint64_t held = stream_.spool->holds(stream_.folder, offset, out.size());
      stream_.spool->read(stream_.folder, offset, out.first(held));
      out = out.subspan(held);
      offset += held;
      if (out.empty()) return;
    }
    std::size_t index = index_at(offset);
    PackedFileReader& reader = part(index);
    std::uint64_t skip = offset - stream_.parts[index].tar_offset;
    if (skip >= reader.size()) {
      throw Error(ErrorKind::kDamage,
                  stream_.folder + "/" + stream_.parts[index].name + ": ends too early");
    }
    std::size_t n = std::min<std::uint64_t>(out.size(), reader.size() - skip);
    reader.read_at(skip, out.first(n));
    out = out.subspan(n);
    offset += n;
  }
}

}  // namespace kestrum
