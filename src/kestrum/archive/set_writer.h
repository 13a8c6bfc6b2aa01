// Writes a set's tar stream as parts: blocks are compressed in parallel, then encrypted and
// written in order. Memory is a fixed number of blocks.
#pragma once

#include <atomic>
#include <condition_variable>
#include <deque>
#include <exception>
#include <functional>
#include <memory>
#include <mutex>
#include <span>
#include <string>
#include <thread>
#include <vector>

#include "kestrum/archive/packed_file.h"

namespace kestrum {

struct PartInfo {
  std::string name;
  std::uint64_t bytes = 0;       // of the file
  std::uint64_t tar_offset = 0;  // of its first content byte in the set's tar stream
  Digest digest{};               // of the file
};

enum class ReadBack { kOff, kParts, kContents };

struct SetWriterOptions {
  Packing packing;
  std::uint64_t part_size = 1'000'000'000;  // bytes, of the file
  ReadBack read_back = ReadBack::kParts;
  unsigned threads = 0;  // that compress; 0: one a processor
};

class SetWriter {
 public:
  // Parts are written to `folder` of `place`, which outlives the writer.
  SetWriter(Place& place, std::string folder, SetWriterOptions options);
  ~SetWriter();  // without finish(): gives up what is open

  // Room in the block being filled, never empty; at most a block long. The caller writes content
  // there and then calls advance(). Throws what went wrong behind the scenes.
  std::span<std::uint8_t> space();
  void advance(std::size_t bytes);
  void append(ByteView bytes);
  void append_zeros(std::uint64_t count);

  std::uint64_t tar_offset() const { return offset_; }

  // Ends the stream with two zero blocks and returns the parts in order.
  std::vector<PartInfo> finish();

 private:
  struct Block {
    Bytes content;  // of block_size_, filled up to `used`
    std::size_t used = 0;
    Bytes frame;
  };

  void submit();
  void run_pipeline();
  template <typename Stage>
  void guarded(Stage stage);
  std::shared_ptr<Block> next_block();
  void recycle(std::shared_ptr<Block> block);
  void put(Block& block);
  void close_part();
  void stop_pipeline();
  void throw_failure();

  Place& place_;
  std::string folder_;
  SetWriterOptions options_;
  std::size_t block_size_;
  std::shared_ptr<Block> filling_;
  std::uint64_t offset_ = 0;

  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<std::shared_ptr<Block>> waiting_;
  std::vector<std::shared_ptr<Block>> spare_;
  bool ended_ = false, given_up_ = false;
  std::exception_ptr failure_;
  std::atomic<bool> failed_ = false;
  std::thread pipeline_;

  // Only touched by the pipeline's last stage, and after it has ended.
  std::unique_ptr<PackedFileWriter> part_;
  std::uint64_t part_start_ = 0, written_ = 0;
  std::vector<PartInfo> parts_;
};

// The content size of blocks so that the largest frame still fits a part.
std::size_t block_size_for(std::uint64_t part_size);

}  // namespace kestrum
