// A few large files and what may happen to them.
#pragma once

#include <cstdint>
#include <random>
#include <string>

namespace kestrum::test {

// Makes and changes files at random, the same for the same seed: edits in place, insertions,
// removals, rotations, repeats, runs of zeros, holes, copies, other names, hard links.
class LargeFiles {
 public:
  struct Limits {
    int files = 0;
    std::uint64_t bytes = 0;  // of a file that is made; what grows beyond twice that is cut off
  };
  LargeFiles(std::string folder, unsigned seed, Limits limits)
      : folder_(std::move(folder)), random_(seed), limits_(limits) {}
  void edit();  // one to three of them

 private:
  int below(int limit) { return static_cast<int>(random_() % static_cast<unsigned>(limit)); }
  std::string some_file();
  void step();
  void make();
  void change(const std::string& path);
  void make_holes(const std::string& path);

  std::string folder_;
  std::mt19937_64 random_;
  Limits limits_;
};

}  // namespace kestrum::test
