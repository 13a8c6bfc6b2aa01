#include "kestrum/archive/set_writer.h"

#include <fmt/format.h>
#include <tbb/enumerable_thread_specific.h>
#include <tbb/parallel_pipeline.h>
#include <tbb/task_arena.h>

#include <algorithm>
#include <chrono>
#include <cstring>
#include <utility>

#include "kestrum/archive/tar_format.h"
#include "kestrum/base/error.h"
#include "kestrum/base/happens_before.h"

namespace kestrum {
namespace {

constexpr std::size_t kWaitingBlocks = 2;
constexpr auto kLook = std::chrono::milliseconds(100);  // how often to ask whether to stop

// Decrypts every chunk and checks every frame's checksum.
void check_contents(PackedFileReader& reader, std::uint64_t expected,
                    const std::function<bool()>& stop, const std::string& path) {
  Bytes buffer(1 << 20);
  for (std::uint64_t at = 0; at < reader.size(); at += buffer.size()) {
    if (stop && stop()) throw Error(ErrorKind::kStopped, "stopped");
    reader.read_at(
        at, std::span(buffer).first(std::min<std::uint64_t>(buffer.size(), reader.size() - at)));
  }
  if (reader.size() != expected) {
    throw Error(ErrorKind::kDamage, path + ": does not hold what was written to it");
  }
}

}  // namespace

std::size_t block_size_for(std::uint64_t part_size) {
  // Frame headers, the seek table, the age header and tags stay below 1/16 and 8 KiB.
  std::uint64_t fits = part_size < 16384 ? 4096 : (part_size - 8192) / 16 * 15;
  return static_cast<std::size_t>(std::min<std::uint64_t>(kFrameSize, fits / 512 * 512));
}

SetWriter::SetWriter(Place& place, std::string folder, SetWriterOptions options)
    : place_(place),
      folder_(std::move(folder)),
      options_(std::move(options)),
      block_size_(block_size_for(options_.part_size)) {
  if (options_.threads == 0) options_.threads = std::max(1U, std::thread::hardware_concurrency());
  for (const ClosedPart& part : options_.kept) {
    parts_.push_back(part.info);
    if (options_.blocks != nullptr) {
      options_.blocks->add(part.blocks.empty()
                               ? block_digests_of(*place_.open(folder_ + "/" + part.info.name))
                               : part.blocks);
    }
  }
  if (!options_.kept.empty()) offset_ = written_ = options_.kept.back().tar_end;
  entry_.start = entry_.end = offset_;
  filling_ = new_block();
  pipeline_ = std::thread([this] { run_pipeline(); });
}

SetWriter::~SetWriter() {
  {
    std::lock_guard lock(mutex_);
    given_up_ = true;
  }
  stop_pipeline();
}

void SetWriter::stop_pipeline() {
  {
    std::lock_guard lock(mutex_);
    ended_ = true;
  }
  changed_.notify_all();
  if (pipeline_.joinable()) pipeline_.join();
}

void SetWriter::throw_failure() {
  std::lock_guard lock(mutex_);
  if (failure_) std::rethrow_exception(failure_);
}

std::span<std::uint8_t> SetWriter::space() {
  if (filling_->used == block_size_) submit();
  return std::span(filling_->content).subspan(filling_->used);
}

void SetWriter::advance(std::size_t bytes) {
  filling_->used += bytes;
  offset_ += bytes;
}

void SetWriter::append(ByteView bytes) {
  while (!bytes.empty()) {
    auto room = space();
    std::size_t n = std::min(room.size(), bytes.size());
    std::memcpy(room.data(), bytes.data(), n);
    advance(n);
    bytes = bytes.subspan(n);
  }
}

void SetWriter::append_zeros(std::uint64_t count) {
  while (count > 0) {
    auto room = space();
    std::size_t n = std::min<std::uint64_t>(room.size(), count);
    std::memset(room.data(), 0, n);
    advance(n);
    count -= n;
  }
}

void SetWriter::begin_entry(const std::string& path, std::string head, std::uint64_t content,
                            std::shared_ptr<const LargeFile> file) {
  std::uint64_t end = offset_ + head.size() + content;
  auto kept = std::make_shared<const std::string>(std::move(head));
  entry_ = {offset_, end, path, kept, std::move(file), {}};
  append(as_bytes(*kept));
}

void SetWriter::submit() {
  filling_->cut = CutEntry{offset_, offset_, "", nullptr, nullptr, {}};
  if (entry_.end > offset_) {
    filling_->cut = entry_;
    bool whole = entry_.head && offset_ >= entry_.start + entry_.head->size();
    if (whole) filling_->cut.head.reset();
  }
  checkpoint_closed();
  std::unique_lock lock(mutex_);
  while (!changed_.wait_for(lock, kLook,
                            [&] { return waiting_.size() < kWaitingBlocks || failure_; })) {
    lock.unlock();
    if (stopped()) throw Error(ErrorKind::kStopped, "stopped");
    checkpoint_closed();
    lock.lock();
  }
  if (failure_) std::rethrow_exception(failure_);
  waiting_.push_back(std::exchange(filling_, nullptr));
  if (!spare_.empty()) {
    filling_ = spare_.back();
    spare_.pop_back();
  }
  lock.unlock();
  changed_.notify_all();
  if (filling_ == nullptr) filling_ = new_block();
  filling_->used = 0;
  filling_->last = false;
}

SetWriter::Block* SetWriter::new_block() {
  blocks_.push_back(std::make_unique<Block>());
  blocks_.back()->content.resize(block_size_);
  return blocks_.back().get();
}

SetWriter::Block* SetWriter::next_block() {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [&] { return !waiting_.empty() || ended_; });
  if (waiting_.empty() || given_up_) return nullptr;
  Block* block = waiting_.front();
  waiting_.pop_front();
  lock.unlock();
  changed_.notify_all();
  return block;
}

void SetWriter::recycle(Block* block) {
  std::lock_guard lock(mutex_);
  spare_.push_back(block);
}

// What goes wrong in a stage is kept for the caller instead of thrown through the pipeline.
template <typename Stage>
void SetWriter::guarded(Stage stage) {
  try {
    if (!failed_) stage();
  } catch (...) {
    {
      std::lock_guard lock(mutex_);
      if (!failure_) failure_ = std::current_exception();
      given_up_ = true;
    }
    failed_ = true;
    changed_.notify_all();
  }
}

void SetWriter::run_pipeline() {
  using Token = Block*;
  guarded([&] {
    tbb::task_arena arena(static_cast<int>(options_.threads));
    arena.execute([&] {
      tbb::enumerable_thread_specific<std::unique_ptr<FrameCompressor>> compressors(
          [&] { return std::make_unique<FrameCompressor>(options_.packing.level); });
      auto take = [&](tbb::flow_control& control) {
        Token block = next_block();
        if (block == nullptr) control.stop();
        happens_before(block);
        return block;
      };
      auto compress = [&](Token block) {
        happens_after(block);
        guarded([&] {
          if (!options_.packing.compressed()) return;
          compressors.local()->compress({block->content.data(), block->used}, block->frame);
        });
        happens_before(block);
        return block;
      };
      auto write = [&](Token block) {
        happens_after(block);
        happens_after(this);  // from the block before: one after the other, though by any thread
        guarded([&] { put(*block); });
        recycle(block);
        happens_before(this);
      };
      using tbb::filter_mode;
      tbb::parallel_pipeline(
          options_.threads + 1,
          tbb::make_filter<void, Token>(filter_mode::serial_in_order, take) &
              tbb::make_filter<Token, Token>(filter_mode::parallel, compress) &
              tbb::make_filter<Token, void>(filter_mode::serial_in_order, write));
      happens_after(this);
    });
  });
  {
    std::lock_guard lock(mutex_);
    done_ = true;
  }
  changed_.notify_all();
}

void SetWriter::put(Block& block) {
  if (stopped()) throw Error(ErrorKind::kStopped, "stopped");
  ByteView frame = options_.packing.compressed() ? ByteView(block.frame)
                                                 : ByteView(block.content.data(), block.used);
  if (part_ && part_->size_with(frame.size()) > options_.part_size) close_part();
  if (!part_) {
    std::string name =
        fmt::format("{}{:06}.tar{}", kPartPrefix, parts_.size() + 1, options_.packing.suffix());
    parts_.push_back({name, 0, written_, {}, options_.disk});
    part_ = std::make_unique<PackedFileWriter>(place_, folder_ + "/" + name, options_.packing);
    if (options_.read_back >= ReadBack::kParts) behind_.emplace(place_, folder_ + "/" + name);
    part_start_ = written_;
  }
  torn_ = true;
  part_->add(frame, block.used);
  torn_ = false;
  if (behind_) behind_->written(part_->size());
  written_ += block.used;
  cut_ = std::move(block.cut);
  complete_ = block.last;
}

void SetWriter::close_part() {
  torn_ = true;
  part_->close();
  torn_ = false;
  // No part is open from here on, whatever becomes of reading it back.
  std::unique_ptr<PackedFileWriter> part = std::move(part_);
  PartInfo& info = parts_.back();
  info.bytes = part->size();
  info.digest = part->digest();
  if (options_.blocks != nullptr) options_.blocks->add(part->blocks());
  // Nothing can follow the end of the stream.
  if (!complete_) {
    std::lock_guard lock(mutex_);
    closed_.push_back({info, written_, cut_, part->blocks()});
  }
  std::string path = folder_ + "/" + info.name;
  bool read_already = behind_ && behind_->gave_back(info.bytes, part->blocks());
  if (read_already) read_back_totals_.time += behind_->busy();
  behind_.reset();
  if (options_.read_back == ReadBack::kSizes) check_size(place_, path, info.bytes);
  if (options_.read_back >= ReadBack::kParts && !read_already) {
    Nanos began = steady_now();
    read_back(place_, path, info.bytes, info.digest, options_.stop);
    read_back_totals_.time += steady_now() - began;
  }
  if (options_.read_back >= ReadBack::kParts) read_back_totals_.bytes += info.bytes;
  if (options_.read_back == ReadBack::kContents) {
    auto key = part->file_key();
    PackedFileReader reader(place_.open(path), key.has_value(), options_.packing.compressed(),
                            {{}, key ? &*key : nullptr}, info.name);
    check_contents(reader, written_ - part_start_, options_.stop, path);
  }
}

void SetWriter::checkpoint_closed() {
  std::vector<ClosedPart> closed;
  {
    std::lock_guard lock(mutex_);
    closed = std::exchange(closed_, {});
  }
  if (!closed.empty() && options_.keep) options_.keep(closed);
}

void SetWriter::give_up(bool stopped) {
  if (stopped) close_early();
  checkpoint_closed();
}

void SetWriter::close_early() {
  {
    std::lock_guard lock(mutex_);
    given_up_ = true;
  }
  failed_ = true;  // what is under way is let go
  stop_pipeline();
  if (!part_ || torn_ || complete_ || written_ == part_start_) return;
  options_.read_back = ReadBack::kOff;  // whoever goes on behind it looks at it first
  behind_.reset();
  close_part();
}

std::vector<PartInfo> SetWriter::finish() {
  // Both in one block: a part that ends between them could not be gone on with.
  if (block_size_ - filling_->used < 2 * kTarBlock) submit();
  append_zeros(2 * kTarBlock);
  filling_->last = true;
  submit();
  {
    std::unique_lock lock(mutex_);
    ended_ = true;
    changed_.notify_all();
    while (!changed_.wait_for(lock, kLook, [&] { return done_; })) {
      lock.unlock();
      checkpoint_closed();
      lock.lock();
    }
  }
  stop_pipeline();
  throw_failure();
  close_part();
  return parts_;
}

}  // namespace kestrum
