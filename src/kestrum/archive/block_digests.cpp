#include "kestrum/archive/block_digests.h"

#include <algorithm>
#include <array>
#include <future>
#include <utility>

#include "kestrum/base/error.h"

namespace kestrum {
namespace {

constexpr std::size_t kReadsAhead = 3;  // blocks

}  // namespace

void BlockDigester::update(ByteView bytes) {
  while (!bytes.empty()) {
    std::size_t n = std::min<std::uint64_t>(bytes.size(), kDigestBlock - filled_);
    block_.update(bytes.first(n));
    bytes = bytes.subspan(n);
    filled_ += n;
    if (filled_ < kDigestBlock) continue;
    digests_ += as_text(std::exchange(block_, Digester()).finish());
    filled_ = 0;
  }
}

const std::string& BlockDigester::finish() {
  if (filled_ > 0) digests_ += as_text(block_.finish());
  filled_ = 0;
  return digests_;
}

Digest digest_of_blocks(const std::string& digests) {
  return digest_of(as_bytes(digests));
}

// While one block is digested, the next ones are read, several at a time: a disk does more the more
// it is asked for.
std::string block_digests_of(ByteSource& file, const std::function<bool()>& stop) {
  BlockDigester digester;
  std::array<Bytes, kReadsAhead + 1> buffers;
  std::array<std::future<void>, kReadsAhead + 1> reads;  // last: they end before the buffers do
  const std::uint64_t size = file.size(), blocks = (size + kDigestBlock - 1) / kDigestBlock;
  std::uint64_t begun = 0;
  auto read = [&file](std::uint64_t at, Bytes& buffer) { file.read_at(at, buffer); };
  for (std::uint64_t block = 0; block < blocks; ++block) {
    if (stop && stop()) throw Error(ErrorKind::kStopped, "stopped");
    for (; begun < std::min(blocks, block + kReadsAhead + 1); ++begun) {
      Bytes& buffer = buffers[begun % buffers.size()];
      std::uint64_t at = begun * kDigestBlock;
      buffer.resize(std::min(kDigestBlock, size - at));
      // What is one block is read without a thread.
      auto how = blocks == 1 ? std::launch::deferred : std::launch::async;
      reads[begun % reads.size()] = std::async(how, read, at, std::ref(buffer));
    }
    reads[block % reads.size()].get();
    digester.update(buffers[block % buffers.size()]);
  }
  return digester.finish();
}

Digest stored_digest_of(ByteSource& file, const std::function<bool()>& stop) {
  return digest_of_blocks(block_digests_of(file, stop));
}

CheckedSource::CheckedSource(std::unique_ptr<ByteSource> file, std::string digests,
                             std::string what)
    : file_(std::move(file)), digests_(std::move(digests)), what_(std::move(what)) {}

void CheckedSource::load(std::uint64_t block) {
  if (block == held_block_) return;
  held_block_ = UINT64_MAX;
  std::uint64_t start = block * kDigestBlock;
  held_.resize(std::min(kDigestBlock, file_->size() - start));
  file_->read_at(start, held_);
  Digest digest = digest_of(held_);
  std::string_view expected(digests_);
  expected = expected.substr(std::min(expected.size(), block * sizeof(Digest)), sizeof(Digest));
  if (expected != as_text(digest)) {
    throw Error(ErrorKind::kDamage, what_ + ": it changed while it was read");
  }
  held_block_ = block;
}

void CheckedSource::read_at(std::uint64_t offset, std::span<std::uint8_t> out) {
  if (offset > size() || out.size() > size() - offset) {
    throw Error(ErrorKind::kDamage, what_ + ": ends too early");
  }
  while (!out.empty()) {
    load(offset / kDigestBlock);
    std::size_t skip = offset % kDigestBlock, n = std::min(out.size(), held_.size() - skip);
    std::copy_n(held_.begin() + static_cast<std::ptrdiff_t>(skip), n, out.begin());
    out = out.subspan(n);
    offset += n;
  }
}

BlocksWriter::BlocksWriter(Place& place, const std::string& path) : file_(place.create(path)) {}

void BlocksWriter::add(const std::string& digests) {
  file_->write(as_bytes(digests));
  own_.update(as_bytes(digests));
  size_ += digests.size();
}

void BlocksWriter::close() {
  file_->sync();
  file_.reset();
  digest_ = digest_of_blocks(own_.finish());
}

}  // namespace kestrum
