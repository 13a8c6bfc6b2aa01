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
#include <optional>
#include <span>
#include <string>
#include <thread>
#include <vector>

#include "kestrum/archive/entry.h"
#include "kestrum/archive/packed_file.h"
#include "kestrum/archive/read_behind.h"
#include "kestrum/base/file_time.h"

namespace kestrum {

// Names of parts begin so; no other file of a set's folder does.
inline constexpr const char* kPartPrefix = "part-";

struct PartInfo {
  std::string name;
  std::uint64_t bytes = 0;       // of the file
  std::uint64_t tar_offset = 0;  // of its first content byte in the set's tar stream
  Digest digest{};               // of the file's digests block by block
  // Of the disks that its shelf was on the one that holds it: how often the shelf had moved.
  // Nothing in a seal whose parts all lie where it was made.
  std::optional<std::uint64_t> disk = std::nullopt;
};

// A large file as it was when its entry was begun: enough to tell later whether it still is so.
struct LargeFile {
  std::string path;  // relative to "/"
  std::uint64_t size = 0, inode = 0;
  FileTime mtime, ctime;
};

// An entry of the stream that is being written, or at whose inside a part ends. Offsets are of the
// tar stream.
struct CutEntry {
  std::uint64_t start = 0, end = 0;  // the same: the part ends between two entries
  std::string path;                  // of the entry, relative to "/"
  // All that stands before the content, while that is not written to its end: the stream has to go
  // on with it byte for byte, whatever becomes of the content.
  std::shared_ptr<const std::string> head;
  std::shared_ptr<const LargeFile> file;  // whose content is cut, where that can be gone on with
  Digest so_far{};                        // of the file's content before the cut
};

// A part that lasts: all that is needed to go on with the set behind it.
struct ClosedPart {
  PartInfo info;
  std::uint64_t tar_end = 0;  // offset behind its last content byte
  CutEntry cut;               // at tar_end
  std::string blocks;         // digests of the file block by block, where they are at hand

  // What of the stream up to here is of use: up to the entry that is cut.
  std::uint64_t complete_until() const { return cut.end > tar_end ? cut.start : tar_end; }
};

enum class ReadBack {
  kOff,
  kSizes,  // asks the place how long they are
  kParts,
  kContents,
};

// What was read back from the disk, and how long reading it took, beside writing or after it.
struct ReadBackTotals {
  std::uint64_t bytes = 0;
  Nanos time = 0;
};

struct SetWriterOptions {
  Packing packing;
  std::uint64_t part_size = 1'000'000'000;  // bytes, of the file
  ReadBack read_back = ReadBack::kParts;
  unsigned threads = 0;            // that compress; 0: one a processor
  std::vector<ClosedPart> kept;    // of an interrupted run, in the same folder: goes on behind them
  BlocksWriter* blocks = nullptr;  // gets the digests of each part; outlives the writer
  // Both are called by the caller's thread while it gives the writer work or waits; may be empty.
  std::function<bool()> stop;                                // true: throw Error(kStopped)
  std::function<void(const std::vector<ClosedPart>&)> keep;  // told of parts that were closed
  std::uint64_t disk = 0;  // that the new ones are on, as PartInfo says it
};

// Its calls come from one thread; it has others of its own, which write to the place.
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

  // Begins an entry with its head; so many bytes of content, padding included, are to follow.
  void begin_entry(const std::string& path, std::string head, std::uint64_t content,
                   std::shared_ptr<const LargeFile> file = nullptr);
  // The same of one that began before, in the parts of an interrupted run.
  void go_on_with(const CutEntry& entry) { entry_ = entry; }
  // Whether the block is full: then note_content() says what the digest of the file's content is up
  // to here.
  bool at_block_end() const { return filling_->used == block_size_; }
  void note_content(const Digest& so_far) { entry_.so_far = so_far; }

  // For a run that ends without finish(): tells of the parts that were closed. If it was stopped,
  // ends the part that is open before, so that nothing written is lost.
  void give_up(bool stopped);

  // Ends the stream with two zero blocks and returns the parts in order.
  std::vector<PartInfo> finish();
  // After finish().
  const ReadBackTotals& read_back_totals() const { return read_back_totals_; }

 private:
  struct Block {
    Bytes content;  // of block_size_, filled up to `used`
    std::size_t used = 0;
    Bytes frame;
    CutEntry cut;       // at its end
    bool last = false;  // of the stream
  };

  void submit();
  void run_pipeline();
  template <typename Stage>
  void guarded(Stage stage);
  Block* new_block();
  Block* next_block();
  void recycle(Block* block);
  void put(Block& block);
  void close_part();
  void checkpoint_closed();
  void close_early();
  bool stopped() const { return options_.stop && options_.stop(); }
  void stop_pipeline();
  void throw_failure();

  Place& place_;
  std::string folder_;
  SetWriterOptions options_;
  std::size_t block_size_;
  std::vector<std::unique_ptr<Block>> blocks_;  // all there are; only the caller adds to them
  Block* filling_ = nullptr;
  std::uint64_t offset_ = 0;
  CutEntry entry_;  // that is being written

  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<Block*> waiting_;
  std::vector<Block*> spare_;
  bool ended_ = false, given_up_ = false, done_ = false;
  std::exception_ptr failure_;
  std::atomic<bool> failed_ = false;
  std::vector<ClosedPart> closed_;
  ReadBackTotals read_back_totals_;  // by who closes parts
  std::thread pipeline_;

  // Only touched by the pipeline's last stage, and after it has ended.
  std::unique_ptr<PackedFileWriter> part_;
  std::optional<ReadBehind> behind_;  // it
  std::uint64_t part_start_ = 0, written_ = 0;
  CutEntry cut_;           // at written_
  bool torn_ = false;      // a write into the part was begun and did not end
  bool complete_ = false;  // the stream is written to its end
  std::vector<PartInfo> parts_;
};

// The content size of blocks so that the largest frame still fits a part.
std::size_t block_size_for(std::uint64_t part_size);

}  // namespace kestrum
