#include "kestrum/engine/size_estimate.h"

#include <fcntl.h>

#include <algorithm>
#include <cmath>

#include "kestrum/base/file.h"
#include "kestrum/engine/file_reader.h"

namespace kestrum {
namespace {

constexpr std::size_t kStretches = 40;
constexpr std::uint64_t kStretch = 1 << 20;  // bytes
constexpr std::size_t kPieces = 400;         // files in a stretch at most
constexpr std::size_t kEntryHead = 512;      // of a tar entry

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

void SizeEstimate::add(const std::string& path, std::uint64_t size) {
  bytes_ += size;
  if (size > kStretch) {
    close();
    std::uint64_t blocks = (size - kStretch) / 4096;
    open_.pieces.push_back({path, blocks == 0 ? 0 : random_() % blocks * 4096, kStretch});
    open_.weight = size;
    return close();
  }
  if (open_bytes_ + size > kStretch || open_.pieces.size() == kPieces) close();
  open_.pieces.push_back({path, 0, size});
  open_bytes_ += size;
  open_.weight += size;
}

double SizeEstimate::ratio(CompressionLevel level) {
  close();
  if (kept_.empty()) return 1;
  FrameCompressor compressor(level);
  Bytes content, frame;
  double sum = 0;
  std::size_t used = 0;
  for (const Stretch& stretch : kept_) {
    content.clear();
    std::uint64_t data = 0;
    for (const Piece& piece : stretch.pieces) {
      Fd fd(::open(("/" + piece.path).c_str(), O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC));
      if (!fd) continue;
      // What stands for the entry's head: the path, as it repeats from file to file.
      std::size_t at = content.size();
      content.resize(at + std::max(kEntryHead, piece.path.size()));
      std::copy(piece.path.begin(), piece.path.end(),
                content.begin() + static_cast<std::ptrdiff_t>(at));
      at = content.size();
      content.resize(at + piece.length);
      ssize_t n = read_some(fd.get(), piece.offset, std::span(content).subspan(at));
      content.resize(at + static_cast<std::size_t>(std::max<ssize_t>(0, n)));
      data += static_cast<std::uint64_t>(std::max<ssize_t>(0, n));
    }
    if (data == 0) continue;
    std::size_t stored = content.size();
    if (level != CompressionLevel::kOff) {
      compressor.compress(content, frame);
      stored = frame.size();
    }
    sum += static_cast<double>(stored) / static_cast<double>(data);
    ++used;
  }
  return used == 0 ? 1 : sum / static_cast<double>(used);
}

}  // namespace kestrum
