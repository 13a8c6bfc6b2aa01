// One file of a set: content as Zstandard frames with a seek table (or plain), encrypted with age
// (or not). Parts and ledgers are such files.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>

#include "kestrum/archive/block_digests.h"
#include "kestrum/archive/frames.h"
#include "kestrum/base/bytes.h"
#include "kestrum/crypto/age_stream.h"
#include "kestrum/crypto/digest.h"
#include "kestrum/place/place.h"

namespace kestrum {

// How the files of a set are packed; its suffix follows from it.
struct Packing {
  CompressionLevel level = CompressionLevel::kNormal;
  std::optional<Recipient> recipient;  // nothing: not encrypted

  bool compressed() const { return level != CompressionLevel::kOff; }
  std::string suffix() const;  // "", ".zst", ".age" or ".zst.age"
};

class PackedFileWriter {
 public:
  PackedFileWriter(Place& place, const std::string& path, const Packing& packing);
  ~PackedFileWriter();

  // Appends one frame made from `content_size` bytes; with compression off, the bytes themselves.
  void add(ByteView frame, std::size_t content_size);
  // Size of the finished file if `frame_size` more bytes were added as a frame.
  std::uint64_t size_with(std::uint64_t frame_size) const;
  std::uint64_t content_size() const { return content_size_; }

  // Ends the file and makes it lasting. Its name, size in bytes and digest are known from here on.
  void close();
  std::uint64_t size() const;
  const Digest& digest() const { return digest_; }       // of its digests block by block
  const std::string& blocks() const { return blocks_; }  // those digests
  // Opens what was written without any identity, while the writer lives.
  std::optional<Secret> file_key() const;

 private:
  class DigestingSink;
  std::unique_ptr<PlaceFile> file_;
  std::unique_ptr<DigestingSink> sink_;
  std::unique_ptr<AgeWriter> age_;
  bool compressed_;
  SeekTable seek_table_;
  std::uint64_t packed_size_ = 0, content_size_ = 0;
  std::string blocks_;
  Digest digest_{};
};

// Opens the encryption of a packed file; returns its argument if there is none.
struct Unlocker {
  std::span<const Identity> identities;
  const Secret* file_key = nullptr;
};

// The content of a packed file, at any offset.
class PackedFileReader : public ByteSource {
 public:
  // Throws Error(kDamage) naming `what`, or Error(kPassphrase).
  PackedFileReader(std::unique_ptr<ByteSource> file, bool encrypted, bool compressed,
                   const Unlocker& unlocker, std::string what);

  std::uint64_t size() const override { return size_; }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) override;
  // Frames of the file; one without compression.
  const SeekTable& seek_table() const { return seek_table_; }

 private:
  void load_frame(std::size_t index);

  std::unique_ptr<ByteSource> file_;
  std::unique_ptr<AgeReader> age_;
  ByteSource* packed_ = nullptr;
  bool compressed_;
  std::string what_;
  SeekTable seek_table_;
  FrameDecompressor decompressor_;
  std::optional<std::size_t> loaded_;
  Bytes frame_, content_;
  std::uint64_t size_ = 0;
};

// Reads a file of a place from the disk itself and compares it with what was written. If the disk
// disagrees and the page cache still holds the right bytes, they are written again, once.
// Throws Error(kDamage) if that does not help, Error(kStopped) when `stop` says so.
// That the place has as many bytes of a file; throws Error(kFailed) if not.
void check_size(Place& place, const std::string& path, std::uint64_t size);
void read_back(Place& place, const std::string& path, std::uint64_t size, const Digest& digest,
               const std::function<bool()>& stop = {});

}  // namespace kestrum
