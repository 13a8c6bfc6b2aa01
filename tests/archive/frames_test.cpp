#include "kestrum/archive/frames.h"

#include <gtest/gtest.h>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum {
namespace {

std::string words(std::size_t size) {
  std::string text;
  for (std::size_t i = 0; text.size() < size; ++i)
    text += "line " + std::to_string(i * i % 977) + "\n";
  text.resize(size);
  return text;
}

TEST(Frames, ComeBackAtEveryLevel) {
  FrameDecompressor decompressor;
  for (CompressionLevel level :
       {CompressionLevel::kFast, CompressionLevel::kNormal, CompressionLevel::kSmall}) {
    FrameCompressor compressor(level);
    for (std::size_t size : {0U, 1U, 1000U, 200'000U, 2'000'000U}) {
      for (const std::string& content :
           {words(size), test::noise(size, 1), std::string(size, '\0')}) {
        Bytes frame;
        compressor.compress(as_bytes(content), frame);
        Bytes back(size);
        decompressor.decompress(frame, back, "frame");
        EXPECT_EQ(as_text(back), content);
      }
    }
  }
}

TEST(Frames, AreOpenedByTheStandardTool) {
  test::TempFolder folder;
  FrameCompressor compressor(CompressionLevel::kNormal);
  SeekTable table;
  std::string file, content;
  for (int i = 0; i < 3; ++i) {
    std::string piece = words(50'000) + test::noise(150'000, static_cast<unsigned>(i));
    Bytes frame;
    compressor.compress(as_bytes(piece), frame);
    table.add(static_cast<std::uint32_t>(frame.size()), static_cast<std::uint32_t>(piece.size()));
    file += as_text(frame);
    content += piece;
  }
  write_file(folder / "file.zst", file + table.encode());
  test::Ran ran = test::run_program({"zstd", "-dc", folder / "file.zst"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(ran.out, content);
}

TEST(Frames, ThatAreDamagedOrHoldAnotherLengthAreRefused) {
  FrameCompressor compressor(CompressionLevel::kNormal);
  FrameDecompressor decompressor;
  std::string content = words(20'000);
  Bytes frame;
  compressor.compress(as_bytes(content), frame);
  Bytes shorter(content.size() - 1), longer(content.size() + 1), right(content.size());
  EXPECT_THROW(decompressor.decompress(frame, shorter, "frame"), Error);
  EXPECT_THROW(decompressor.decompress(frame, longer, "frame"), Error);
  int refused = 0;
  for (std::size_t i = 0; i < frame.size(); ++i) {
    Bytes damaged = frame;
    damaged[i] ^= 0x10;
    try {
      decompressor.decompress(damaged, right, "frame");
      EXPECT_EQ(as_text(right), content) << "wrong content was taken for right, byte " << i;
    } catch (const Error& error) {
      EXPECT_EQ(error.kind(), ErrorKind::kDamage);
      ++refused;
    }
  }
  EXPECT_GT(refused, static_cast<int>(frame.size() * 9 / 10));
}

TEST(Frames, OfWhatDoesNotShrinkAreHardlyLonger) {
  FrameCompressor compressor(CompressionLevel::kSmall);
  std::string content = test::noise(4'000'000, 9);
  Bytes frame;
  compressor.compress(as_bytes(content), frame);
  EXPECT_LT(frame.size(), content.size() + 1000);
  // One part that shrinks is worth the work.
  std::string mixed = test::noise(2'000'000, 9) + words(2'000'000);
  compressor.compress(as_bytes(mixed), frame);
  EXPECT_LT(frame.size(), 2'400'000U);
}

}  // namespace
}  // namespace kestrum
