// Independent Zstandard frames and the seek table behind them (the published Zstandard seekable
// format, version 0.1.0).
//
//   frame | frame | ... | seek table
//
//   seek table, a skippable frame:  0x184D2A5E  size
//     per frame:  compressed size (4)  decompressed size (4)
//     footer:     number of frames (4)  descriptor (1) = 0  0x8F92EAB1
//   All integers little-endian.
#pragma once

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "kestrum/base/bytes.h"

namespace kestrum {

inline constexpr std::size_t kFrameSize = 2 << 20;    // bytes of content a frame, written at most
inline constexpr std::size_t kFrameLimit = 16 << 20;  // accepted by readers

enum class CompressionLevel { kFast, kNormal, kSmall, kOff };

class FrameCompressor {
 public:
  explicit FrameCompressor(CompressionLevel level);
  ~FrameCompressor();
  FrameCompressor(const FrameCompressor&) = delete;
  FrameCompressor& operator=(const FrameCompressor&) = delete;

  // Replaces `frame` by one frame with content size and checksum. Content that will not shrink is
  // recognised by samples and stored with next to no work.
  void compress(ByteView content, Bytes& frame);

 private:
  struct State;
  bool looks_incompressible(ByteView content);
  std::unique_ptr<State> state_;
};

class FrameDecompressor {
 public:
  FrameDecompressor();
  ~FrameDecompressor();
  FrameDecompressor(const FrameDecompressor&) = delete;
  FrameDecompressor& operator=(const FrameDecompressor&) = delete;

  // Fills `content` exactly; throws Error(kDamage) naming `what` if the frame is malformed, its
  // checksum is wrong or it holds more or less.
  void decompress(ByteView frame, std::span<std::uint8_t> content, const std::string& what);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

class SeekTable {
 public:
  struct Frame {
    std::uint64_t compressed_offset, content_offset;
    std::uint32_t compressed_size, content_size;
  };

  void add(std::uint32_t compressed_size, std::uint32_t content_size);
  std::size_t frames() const { return frames_.size(); }
  const Frame& frame(std::size_t i) const { return frames_[i]; }
  std::uint64_t content_size() const;
  std::uint64_t compressed_size() const;  // without the table
  // The frame that holds content byte `offset`, which must be below content_size().
  std::size_t frame_at(std::uint64_t offset) const;

  std::string encode() const;
  static std::uint64_t encoded_size(std::size_t frames) { return 17 + 8 * frames; }
  // Reads the table at the end of `file`; throws Error(kDamage) naming `what` unless its frames
  // fill the file exactly and none exceeds kFrameLimit.
  static SeekTable read(ByteSource& file, const std::string& what);

 private:
  std::vector<Frame> frames_;
};

}  // namespace kestrum
