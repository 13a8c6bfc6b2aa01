#include "kestrum/archive/packed_file.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/base/error.h"

namespace kestrum {
namespace {

constexpr std::uint64_t kReadWhole = 1 << 20;  // bytes

}  // namespace

std::string Packing::suffix() const {
  return std::string(compressed() ? ".zst" : "") + (recipient ? ".age" : "");
}

class PackedFileWriter::DigestingSink : public ByteSink {
 public:
  explicit DigestingSink(ByteSink& next) : next_(next) {}
  void write(ByteView bytes) override {
    digester_.update(bytes);
    size_ += bytes.size();
    next_.write(bytes);
  }
  std::uint64_t size() const { return size_; }
  const std::string& finish() { return digester_.finish(); }

 private:
  ByteSink& next_;
  BlockDigester digester_;
  std::uint64_t size_ = 0;
};

PackedFileWriter::PackedFileWriter(Place& place, const std::string& path, const Packing& packing)
    : file_(place.create(path)),
      sink_(std::make_unique<DigestingSink>(*file_)),
      compressed_(packing.compressed()) {
  if (packing.recipient)
    age_ = std::make_unique<AgeWriter>(*sink_, std::span(&*packing.recipient, 1));
}

PackedFileWriter::~PackedFileWriter() = default;

void PackedFileWriter::add(ByteView frame, std::size_t content_size) {
  if (compressed_) {
    seek_table_.add(static_cast<std::uint32_t>(frame.size()),
                    static_cast<std::uint32_t>(content_size));
  }
  packed_size_ += frame.size();
  content_size_ += content_size;
  if (age_) {
    age_->write(frame);
  } else {
    sink_->write(frame);
  }
}

std::uint64_t PackedFileWriter::size_with(std::uint64_t frame_size) const {
  std::uint64_t packed = packed_size_ + frame_size;
  if (compressed_) packed += SeekTable::encoded_size(seek_table_.frames() + 1);
  return age_ ? age_->sealed_size(packed) : packed;
}

void PackedFileWriter::close() {
  if (compressed_) {
    std::string table = seek_table_.encode();
    if (age_) {
      age_->write(as_bytes(table));
    } else {
      sink_->write(as_bytes(table));
    }
  }
  if (age_) age_->finish();
  blocks_ = sink_->finish();
  digest_ = digest_of_blocks(blocks_);
  file_->sync();
  file_.reset();
}

std::uint64_t PackedFileWriter::size() const {
  return sink_->size();
}

std::optional<Secret> PackedFileWriter::file_key() const {
  if (!age_) return std::nullopt;
  return age_->file_key();
}

PackedFileReader::PackedFileReader(std::unique_ptr<ByteSource> file, bool encrypted,
                                   bool compressed, const Unlocker& unlocker, std::string what)
    : file_(std::move(file)),
      packed_(file_.get()),
      compressed_(compressed),
      what_(std::move(what)) {
  if (encrypted) {
    age_ = unlocker.file_key != nullptr
               ? std::make_unique<AgeReader>(*file_, *unlocker.file_key, what_)
               : std::make_unique<AgeReader>(*file_, unlocker.identities, what_);
    packed_ = age_.get();
  }
  if (compressed_) {
    seek_table_ = SeekTable::read(*packed_, what_);
    size_ = seek_table_.content_size();
  } else {
    size_ = packed_->size();
  }
}

void PackedFileReader::load_frame(std::size_t index) {
  const SeekTable::Frame& frame = seek_table_.frame(index);
  loaded_.reset();
  frame_.resize(frame.compressed_size);
  packed_->read_at(frame.compressed_offset, frame_);
  content_.resize(frame.content_size);
  decompressor_.decompress(frame_, content_, what_);
  loaded_ = index;
}

void PackedFileReader::read_at(std::uint64_t offset, std::span<std::uint8_t> out) {
  if (offset > size_ || out.size() > size_ - offset) {
    throw Error(ErrorKind::kDamage, what_ + ": ends too early");
  }
  if (!compressed_) return packed_->read_at(offset, out);
  while (!out.empty()) {
    std::size_t index = seek_table_.frame_at(offset);
    if (loaded_ != index) load_frame(index);
    std::uint64_t skip = offset - seek_table_.frame(index).content_offset;
    std::size_t n = std::min<std::uint64_t>(out.size(), content_.size() - skip);
    std::copy_n(content_.begin() + static_cast<std::ptrdiff_t>(skip), n, out.begin());
    out = out.subspan(n);
    offset += n;
  }
}

void check_size(Place& place, const std::string& path, std::uint64_t size) {
  std::uint64_t there = place.open(path)->size();
  if (there == size) return;
  std::string name = place.describe() + "/" + path;
  throw Error(ErrorKind::kFailed,
              fmt::format("{}: {} bytes were written, and {} are there", name, size, there))
      .about_path(name);
}

void read_back(Place& place, const std::string& path, std::uint64_t size, const Digest& digest,
               const std::function<bool()>& stop) {
  auto right = [&](const std::string& name, bool from_disk) {
    try {
      auto file = size <= kReadWhole ? place.open_whole(name, size, from_disk)
                                     : place.open(name, from_disk);
      return file->size() == size && stored_digest_of(*file, stop) == digest;
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace || error.kind() == ErrorKind::kStopped) throw;
      return false;
    }
  };
  if (right(path, true)) return;
  std::string again = path + ".again";
  try {
    copy_bytes(*place.open(path), *place.create(again));
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::kPlace || error.kind() == ErrorKind::kNoRoom) throw;
  }
  if (right(again, true)) {
    place.rename(again, path);
    return;
  }
  place.remove_file(again);
  throw Error(ErrorKind::kDamage, path + ": the disk does not give back what was written to it",
              "this disk is failing: replace it");
}

}  // namespace kestrum
