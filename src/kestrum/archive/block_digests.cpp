#include "kestrum/archive/block_digests.h"

#include <algorithm>
#include <utility>

#include "kestrum/base/error.h"

namespace kestrum {

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

std::string block_digests_of(ByteSource& file, const std::function<bool()>& stop) {
  BlockDigester digester;
  Bytes buffer(kDigestBlock);
  for (std::uint64_t at = 0; at < file.size(); at += kDigestBlock) {
    if (stop && stop()) throw Error(ErrorKind::kStopped, "stopped");
    std::span<std::uint8_t> piece(buffer.data(), std::min(kDigestBlock, file.size() - at));
    file.read_at(at, piece);
    digester.update(piece);
  }
  return digester.finish();
}

Digest stored_digest_of(ByteSource& file, const std::function<bool()>& stop) {
  return digest_of_blocks(block_digests_of(file, stop));
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
