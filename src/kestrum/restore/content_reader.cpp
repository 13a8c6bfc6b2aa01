#include "kestrum/restore/content_reader.h"

#include <algorithm>
#include <tuple>

#include "kestrum/archive/tar_format.h"
#include "kestrum/archive/tar_reader.h"
#include "kestrum/base/error.h"

namespace kestrum {
namespace {

constexpr std::size_t kHole = 4096;  // bytes of zeros that are left out of a file with holes
constexpr std::size_t kOpenSets = 6;

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

ContentReader::OpenSet& ContentReader::open_set(SetId id) {
  auto known = std::find_if(open_.begin(), open_.end(), [&](const auto& s) { return s.id == id; });
  if (known != open_.end()) {
    open_.splice(open_.begin(), open_, known);
    return open_.front();
  }
  const ShelfSet* set = shelf_.find(id);
  if (set == nullptr) {
    throw Error(ErrorKind::kDamage, "set " + id.to_string() + " is not on this shelf");
  }
  if (!set->sealed()) throw Error(ErrorKind::kDamage, set->problem);
  const Seal& seal = set->seal;
  if (open_.size() == kOpenSets) open_.pop_back();
  open_.push_front({id, set->folder,
                    std::make_unique<SetReader>(shelf_.place(),
                                                SetStream{set->folder, seal.parts, seal.encrypted(),
                                                          seal.compressed, spool_},
                                                identities_)});
  return open_.front();
}

void ContentReader::check_stop() const {
  if (stop_ && stop_()) throw Error(ErrorKind::kStopped, "stopped");
}

void ContentReader::read_bytes(OpenSet& set, std::uint64_t stream_at, std::uint64_t file_at,
                               std::uint64_t length, const ContentSink& sink) {
  buffer_.resize(1 << 20);
  while (length > 0) {
    check_stop();
    std::span<std::uint8_t> piece(buffer_.data(), std::min<std::uint64_t>(length, buffer_.size()));
    set.reader->read_at(stream_at, piece);
    sink(file_at, piece);
    stream_at += piece.size();
    file_at += piece.size();
    length -= piece.size();
  }
}

void ContentReader::read(const ContentLocation& location, std::uint64_t size, const Digest& digest,
                         const ContentSink& sink) {
  Digester digester;
  std::uint64_t done = 0;
  auto zeros_until = [&](std::uint64_t offset) {
    digester.update_zeros(offset - done, [this] { check_stop(); });
    done = offset;
  };
  auto take = [&](std::uint64_t offset, ByteView data) {
    zeros_until(offset);
    digester.update(data);
    sink(offset, data);
    done += data.size();
  };
  std::string where;
  if (location.ranges.empty()) {
    where = read_whole(location, size, take);
  } else {
    heads_.clear();
    for (const Piece& piece : pieces_of(location)) read_piece(piece, take);
    at_.reset();
    where = location.set.to_string();
  }
  zeros_until(size);
  if (digester.finish() != digest) {
    throw Error(ErrorKind::kDamage, where + ": content that does not match its digest");
  }
}

std::string ContentReader::read_whole(const ContentLocation& location, std::uint64_t size,
                                      const ContentSink& sink) {
  OpenSet& set = open_set(location.set);
  bool end = false;
  TarEntry entry = read_tar_entry(*set.reader, location.tar_offset, set.folder, end);
  if (end || entry.entry.type != EntryType::kFile || entry.entry.path != location.path ||
      entry.entry.size != size) {
    throw Error(ErrorKind::kDamage, set.folder + ": another entry than the ledger says");
  }
  std::vector<DataRun> runs = entry.runs;
  if (!entry.entry.holes) runs = {{0, size}};
  if (size - std::min(size, entry.stored_size) > kMostHoles && entry.entry.holes) {
    throw Error(ErrorKind::kDamage,
                set.folder + ": a file that claims more holes than any run stores");
  }
  std::uint64_t stream_at = entry.content_offset;
  for (const DataRun& run : runs) {
    read_bytes(set, stream_at, run.offset, run.length, sink);
    stream_at += run.length;
  }
  return set.folder;
}

std::vector<ContentReader::Piece> ContentReader::pieces_of(const ContentLocation& location) {
  std::vector<Piece> pieces;
  std::uint64_t at = 0;
  for (const ContentRange& range : location.ranges) {
    if (!range.hole) pieces.push_back({at, range});
    at += range.length;
  }
  return pieces;
}

void ContentReader::read_piece(const Piece& piece, const ContentSink& sink) {
  const ContentRange& range = piece.range;
  if (!range.set) throw Error(ErrorKind::kDamage, "content of a set that is not named");
  at_ = range;
  OpenSet& set = open_set(*range.set);
  auto [head, fresh] = heads_.try_emplace({range.set->sequence(), range.entry});
  if (fresh) {
    bool end = false;
    TarEntry entry = read_tar_entry(*set.reader, range.entry, set.folder, end);
    if (!end && entry.entry.type == EntryType::kFile) {
      head->second = {entry.content_offset, entry.stored_size};
    }
  }
  auto [content, length] = head->second;
  if (range.offset > length || range.length > length - range.offset) {
    throw Error(ErrorKind::kDamage, set.folder + ": another entry than the ledger says");
  }
  read_bytes(set, content + range.offset, piece.file_at, range.length, sink);
}

void ContentReader::read_pieces(const ContentLocation& location, const ContentSink& sink) {
  std::vector<Piece> pieces = pieces_of(location);
  std::sort(pieces.begin(), pieces.end(), [](const Piece& a, const Piece& b) {
    auto place = [](const Piece& piece) {
      const ContentRange& r = piece.range;
      return std::tuple(r.set ? r.set->sequence() : 0, r.entry, r.offset, piece.file_at);
    };
    return place(a) < place(b);
  });
  heads_.clear();
  for (const Piece& piece : pieces) read_piece(piece, sink);
  at_.reset();
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
