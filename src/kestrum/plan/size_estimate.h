// How much room files will take on a shelf, guessed from samples of them.
#pragma once

#include <random>
#include <string>
#include <vector>

#include "kestrum/archive/frames.h"

namespace kestrum {

// Sees the files that would be copied, in path order, and keeps a few stretches of them, each as
// likely as it is large. Memory does not grow with their number.
class SizeEstimate {
 public:
  // Of files in these folders of a job.
  explicit SizeEstimate(std::vector<std::string> roots = {}) : roots_(std::move(roots)) {}

  // `path` is relative to "/"; of the file's `size` bytes so many are `data`, the rest holes.
  void add(const std::string& path, std::uint64_t size, std::uint64_t data);
  std::uint64_t bytes() const { return bytes_; }  // of data

  // Reads and compresses the stretches: the estimated ratio of stored bytes to those of data, and
  // about two standard errors of it; none but a little if everything was read.
  struct Ratio {
    double value = 1, error = 0;
  };
  Ratio ratio(CompressionLevel level);

 private:
  struct Piece {
    std::string path;  // relative to "/"
    std::uint64_t offset = 0, length = 0;
  };
  struct Stretch {
    std::vector<Piece> pieces;
    std::uint64_t weight = 0;  // bytes that it stands for
    double key = 0;
  };
  void close();
  double unit();

  std::vector<std::string> roots_;
  Stretch open_;
  std::uint64_t open_bytes_ = 0;
  std::vector<Stretch> kept_;  // a heap by key, least first
  std::uint64_t bytes_ = 0;
  std::mt19937_64 random_{1};
};

}  // namespace kestrum
