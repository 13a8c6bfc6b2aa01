#include "kestrum/plan/size_estimate.h"

#include <unistd.h>

#include <algorithm>
#include <cmath>

#include "kestrum/base/file.h"
#include "kestrum/select/source_file.h"
#include "kestrum/select/source_tree.h"

namespace kestrum {
namespace {

constexpr std::size_t kStretches = 24;
constexpr std::uint64_t kStretch = 4 << 20;  // bytes
constexpr std::uint64_t kSegment = 16 << 20, kSampleBlock = 4096;
constexpr std::size_t kPieces = 2000;    // files in a stretch at most
constexpr double kLeastError = 0.05;     // of a ratio
constexpr std::size_t kEntryHead = 512;  // of a tar entry

}  // namespace

double SizeEstimate::unit() {
  return std::uniform_real_distribution<double>(1e-12, 1)(random_);
}

// Weighted reservoir sampling (Efraimidis and Spirakis 2006): the largest keys u^(1/weight) stay.
void SizeEstimate::close() {
  if (open_.weight > 0) {
    open_.key = std::log(unit()) / static_cast<double>(open_.weight);
    auto later = [](const Stretch& a, const Stretch& b) { return a.key > b.key; };
    if (kept_.size() < kStretches || open_.key > kept_.front().key) {
      if (kept_.size() == kStretches) {
        std::pop_heap(kept_.begin(), kept_.end(), later);
        kept_.pop_back();
      }
      kept_.push_back(std::move(open_));
      std::push_heap(kept_.begin(), kept_.end(), later);
    }
  }
  open_ = Stretch();
  open_bytes_ = 0;
}

void SizeEstimate::add(const std::string& path, std::uint64_t size, std::uint64_t data) {
  bytes_ += data;
  if (size > kStretch) {
    close();
    // Several draws for a large file, so that none stands for much more than it shows.
    std::uint64_t draws = (size + kSegment - 1) / kSegment;
    for (std::uint64_t i = 0; i < draws; ++i) {
      std::uint64_t begin = i * kSegment, end = std::min(size, begin + kSegment);
      std::uint64_t blocks = end - begin > kStretch ? (end - begin - kStretch) / kSampleBlock : 0;
      std::uint64_t offset = begin + (blocks == 0 ? 0 : random_() % blocks * kSampleBlock);
      open_.pieces.push_back({path, offset, std::min(kStretch, end - offset)});
      open_.weight = std::max<std::uint64_t>(1, data / draws);
      close();
    }
    return;
  }
  if (open_bytes_ + size > kStretch || open_.pieces.size() == kPieces) close();
  open_.pieces.push_back({path, 0, size});
  open_bytes_ += size;
  open_.weight += data;
}

SizeEstimate::Ratio SizeEstimate::ratio(CompressionLevel level) {
  close();
  if (kept_.empty()) return {};
  SourceTree source(roots_);
  FrameCompressor compressor(level);
  Bytes content, frame;
  double sum = 0, weights = 0, squares = 0;
  bool drawn = kept_.size() == kStretches;
  for (const Stretch& stretch : kept_) {
    content.clear();
    std::uint64_t data = 0;
    for (const Piece& piece : stretch.pieces) {
      Fd fd = source.open_file(piece.path);
      if (!fd) continue;
      // What stands for the entry's head: the path, as it repeats from file to file.
      std::size_t at = content.size();
      content.resize(at + std::max(kEntryHead, piece.path.size()));
      std::copy(piece.path.begin(), piece.path.end(),
                content.begin() + static_cast<std::ptrdiff_t>(at));
      at = content.size();
      content.resize(at + piece.length);
      // Where a file has holes, what follows the place that was drawn, or what comes first.
      off_t begin = ::lseek(fd.get(), static_cast<off_t>(piece.offset), SEEK_DATA);
      if (begin < 0) begin = std::max<off_t>(0, ::lseek(fd.get(), 0, SEEK_DATA));
      ssize_t n =
          read_some(fd.get(), static_cast<std::uint64_t>(begin), std::span(content).subspan(at));
      content.resize(at + static_cast<std::size_t>(std::max<ssize_t>(0, n)));
      data += static_cast<std::uint64_t>(std::max<ssize_t>(0, n));
    }
    if (data == 0) continue;
    // Blocks of a file with holes may hold less than they take.
    data = std::max(data, std::min(stretch.weight, kStretch));
    std::size_t stored = content.size();
    if (level != CompressionLevel::kOff) {
      compressor.compress(content, frame);
      stored = frame.size();
    }
    // A drawn stretch has its weight in its being drawn; when none had to give way, all count by
    // it.
    double weight = drawn ? 1 : static_cast<double>(stretch.weight);
    double ratio = static_cast<double>(stored) / static_cast<double>(data);
    sum += weight * ratio;
    squares += weight * ratio * ratio;
    weights += weight;
  }
  if (weights <= 0) return {};
  double mean = sum / weights;
  double deviation = std::sqrt(std::max(0.0, squares / weights - mean * mean));
  double drawing = drawn ? 2 * deviation / std::sqrt(static_cast<double>(kept_.size())) : 0;
  return {mean, std::max(drawing, kLeastError * mean)};
}

}  // namespace kestrum
