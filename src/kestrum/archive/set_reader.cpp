#include "kestrum/archive/set_reader.h"

#include <algorithm>

#include "kestrum/base/error.h"

namespace kestrum {

SetReader::SetReader(Place& place, std::string folder, std::vector<PartInfo> parts, bool encrypted,
                     bool compressed, std::span<const Identity> identities)
    : place_(place),
      folder_(std::move(folder)),
      parts_(std::move(parts)),
      encrypted_(encrypted),
      compressed_(compressed),
      identities_(identities) {}

PackedFileReader& SetReader::part(std::size_t index) {
  if (open_ && open_index_ == index) return *open_;
  open_.reset();
  const PartInfo& info = parts_[index];
  std::string path = folder_ + "/" + info.name;
  auto reader = std::make_unique<PackedFileReader>(place_.open(path), encrypted_, compressed_,
                                                   Unlocker{identities_, nullptr}, path);
  bool last = index + 1 == parts_.size();
  if (!last && info.tar_offset + reader->size() != parts_[index + 1].tar_offset) {
    throw Error(ErrorKind::kDamage, path + ": its length does not agree with the seal");
  }
  if (last) size_ = info.tar_offset + reader->size();
  open_ = std::move(reader);
  open_index_ = index;
  return *open_;
}

void SetReader::read_at(std::uint64_t offset, std::span<std::uint8_t> out) {
  while (!out.empty()) {
    auto behind = std::upper_bound(
        parts_.begin(), parts_.end(), offset,
        [](std::uint64_t value, const PartInfo& info) { return value < info.tar_offset; });
    if (behind == parts_.begin()) throw Error(ErrorKind::kDamage, folder_ + ": a part is missing");
    auto index = static_cast<std::size_t>(behind - parts_.begin()) - 1;
    PackedFileReader& reader = part(index);
    std::uint64_t skip = offset - parts_[index].tar_offset;
    if (skip >= reader.size()) {
      throw Error(ErrorKind::kDamage, folder_ + "/" + parts_[index].name + ": ends too early");
    }
    std::size_t n = std::min<std::uint64_t>(out.size(), reader.size() - skip);
    reader.read_at(skip, out.first(n));
    out = out.subspan(n);
    offset += n;
  }
}

}  // namespace kestrum
