#include "kestrum/restore/content_reader.h"

#include <algorithm>

#include "kestrum/archive/tar_format.h"
#include "kestrum/archive/tar_reader.h"
#include "kestrum/base/error.h"

namespace kestrum {
namespace {

constexpr std::size_t kHole = 4096;  // bytes of zeros that are left out of a file with holes

bool begins_with_hole(ByteView data) {
  data = data.first(std::min<std::size_t>(data.size(), kHole));
  return std::all_of(data.begin(), data.end(), [](std::uint8_t byte) { return byte == 0; });
}

}  // namespace

void without_holes(std::uint64_t offset, ByteView data, const ContentSink& sink) {
  for (std::size_t at = 0, end = 0; at < data.size(); at = end) {
    bool hole = begins_with_hole(data.subspan(at));
    end = at + std::min<std::size_t>(data.size() - at, kHole);
    while (end < data.size() && begins_with_hole(data.subspan(end)) == hole) {
      end = std::min<std::size_t>(data.size(), end + kHole);
    }
    if (!hole) sink(offset + at, data.subspan(at, end - at));
  }
}

SetReader& ContentReader::reader_of(SetId id) {
  if (open_set_ == id) return *reader_;
  const ShelfSet* set = shelf_.find(id);
  if (set == nullptr) {
    throw Error(ErrorKind::kDamage, "set " + id.to_string() + " is not on this shelf");
  }
  if (!set->sealed()) throw Error(ErrorKind::kDamage, set->problem);
  const Seal& seal = set->seal;
  reader_ = std::make_unique<SetReader>(
      shelf_.place(), SetStream{set->folder, seal.parts, seal.encrypted(), seal.compressed},
      identities_);
  folder_ = set->folder;
  open_set_ = id;
  return *reader_;
}

void ContentReader::read(const ContentLocation& location, std::uint64_t size, const Digest& digest,
                         const ContentSink& sink) {
  SetReader& reader = reader_of(location.set);
  bool end = false;
  TarEntry entry = read_tar_entry(reader, location.tar_offset, folder_, end);
  if (end || entry.entry.type != EntryType::kFile || entry.entry.path != location.path ||
      entry.entry.size != size) {
    throw Error(ErrorKind::kDamage, folder_ + ": another entry than the ledger says");
  }
  std::vector<DataRun> runs = entry.runs;
  if (!entry.entry.holes) runs = {{0, size}};
  if (size - std::min(size, entry.stored_size) > kMostHoles && entry.entry.holes) {
    throw Error(ErrorKind::kDamage,
                folder_ + ": a file that claims more holes than any run stores");
  }
  auto look_up = [&] {
    if (stop_ && stop_()) throw Error(ErrorKind::kStopped, "stopped");
  };
  Digester digester;
  std::uint64_t stream_at = entry.content_offset, file_at = 0;
  buffer_.resize(1 << 20);
  for (const DataRun& run : runs) {
    digester.update_zeros(run.offset - file_at, look_up);
    file_at = run.offset;
    for (std::uint64_t left = run.length; left > 0;) {
      look_up();
      std::span<std::uint8_t> piece(buffer_.data(), std::min<std::uint64_t>(left, buffer_.size()));
      reader.read_at(stream_at, piece);
      digester.update(piece);
      sink(file_at, piece);
      stream_at += piece.size();
      file_at += piece.size();
      left -= piece.size();
    }
  }
  digester.update_zeros(size - file_at, look_up);
  if (digester.finish() != digest) {
    throw Error(ErrorKind::kDamage, folder_ + ": content that does not match its digest");
  }
}

void read_content(ContentReader& reader, const ContentLocation& location, std::uint64_t size,
                  const Digest& digest, const std::function<void(ByteView)>& out) {
  std::uint64_t at = 0;
  Bytes zeros;
  auto fill = [&](std::uint64_t until) {
    if (at < until) zeros.resize(1 << 16);
    while (at < until) {
      std::size_t n = std::min<std::uint64_t>(zeros.size(), until - at);
      out({zeros.data(), n});
      at += n;
    }
  };
  reader.read(location, size, digest, [&](std::uint64_t offset, ByteView data) {
    fill(offset);
    out(data);
    at += data.size();
  });
  fill(size);
}

}  // namespace kestrum
