// Digests of a file block by block, so that any stretch of it can be vouched for by itself
// (docs/format.md, "blocks").
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <string>

#include "kestrum/base/bytes.h"
#include "kestrum/crypto/digest.h"
#include "kestrum/place/place.h"

namespace kestrum {

inline constexpr std::uint64_t kDigestBlock = 1 << 20;  // bytes

inline constexpr const char* kBlocksFile = "blocks";  // in a set's folder

// Bytes of the digests of a file of so many bytes.
constexpr std::uint64_t size_of_blocks(std::uint64_t bytes) {
  return (bytes / kDigestBlock + (bytes % kDigestBlock > 0 ? 1 : 0)) * sizeof(Digest);
}

// Of bytes as they come, front to back.
class BlockDigester {
 public:
  void update(ByteView bytes);
  // The raw digests one behind the other, 32 bytes a block, the last one of what is left. No
  // update() after that.
  const std::string& finish();

 private:
  Digester block_;
  std::uint64_t filled_ = 0;  // bytes of the block
  std::string digests_;
};

// The digest that a seal has of a file: of its digests block by block.
Digest digest_of_blocks(const std::string& digests);

// Digests of a whole file, block by block, which is read by several threads at a time. Throws
// Error(kStopped) when `stop` says so.
std::string block_digests_of(ByteSource& file, const std::function<bool()>& stop = {});

// The digest of a whole file, as a seal has it. Throws Error(kStopped) when `stop` says so.
Digest stored_digest_of(ByteSource& file, const std::function<bool()>& stop = {});

// A file that is read block by block, each compared with the digest that it had when the whole was
// checked: what is given out is what was digested, whatever becomes of the file meanwhile. Reading
// throws Error(kDamage) where they differ. For one thread.
class CheckedSource : public ByteSource {
 public:
  // `digests` as of block_digests_of; `what` is for messages.
  CheckedSource(std::unique_ptr<ByteSource> file, std::string digests, std::string what);
  std::uint64_t size() const override { return file_->size(); }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) override;

 private:
  void load(std::uint64_t block);

  std::unique_ptr<ByteSource> file_;
  std::string digests_, what_;
  Bytes held_;                             // the block that was read last
  std::uint64_t held_block_ = UINT64_MAX;  // its number
};

// The file "blocks" of a set: the digests of its files one behind the other, written as they come.
class BlocksWriter {
 public:
  BlocksWriter(Place& place, const std::string& path);
  void add(const std::string& digests);
  void end() { file_->end(); }  // that no more are added
  // Makes it lasting; its size and digest are known from here on.
  void close();
  std::uint64_t size() const { return size_; }
  const Digest& digest() const { return digest_; }

 private:
  std::unique_ptr<PlaceFile> file_;
  BlockDigester own_;
  std::uint64_t size_ = 0;
  Digest digest_{};
};

}  // namespace kestrum
