// A tree as a test remembers it, and a made-up desk that changes from day to day.
#pragma once

#include <map>
#include <random>
#include <set>
#include <string>
#include <vector>

namespace kestrum::test {

// Every path below a folder with all that a restore must give back: type, mode, owner, time to the
// nanosecond, content digest or link target, attributes, and which names are one file.
using Tree = std::map<std::string, std::string>;

struct TreeOptions {
  bool hard_links = true;  // compare which names are one file
  bool attributes = true;
};
Tree tree_of(const std::string& folder, const TreeOptions& options = {});
// The first differences, in words; empty if there are none.
std::string difference(const Tree& expected, const Tree& found);

// Grows and changes a tree at random, the same for the same seed: adds, edits, moves, copies,
// re-tags and removes entries, changes their type, with names that sort and read awkwardly.
class TreeMaker {
 public:
  TreeMaker(std::string folder, unsigned seed) : folder_(std::move(folder)), random_(seed) {}
  void grow(int entries);
  void change(int steps);

 private:
  int below(int limit) { return static_cast<int>(random_() % static_cast<unsigned>(limit)); }
  std::string some_folder();
  std::string some_file();
  std::string some_name();
  std::string content();
  void add();
  void remember();

  std::string folder_;
  std::mt19937_64 random_;
  std::vector<std::string> folders_, files_;
};

}  // namespace kestrum::test
