// Patterns over paths.
//
//   *  ?      stay inside one folder           no slash         matches a name at any depth
//   **        crosses folders                  leading slash    anchors
//   [a-z] [!a-z]   a class                     any other slash  matches a path's tail
//   \x        x itself                         a folder means everything below it
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace kestrum {

class PatternSet {
 public:
  // Throws Error(kUsage) naming a pattern that is empty or too long.
  explicit PatternSet(std::vector<std::string> patterns, bool ignore_case = false);
  ~PatternSet();
  PatternSet(PatternSet&&) noexcept;
  PatternSet& operator=(PatternSet&&) noexcept;

  bool empty() const { return patterns_.empty(); }
  const std::vector<std::string>& patterns() const { return patterns_; }
  // The first pattern that takes `path` (bytes, relative to "/") or a folder above it.
  std::optional<std::size_t> match(std::string_view path) const;
  // The same for somebody who went down from `root`, which was asked for by name, and came by no
  // folder that a pattern takes: whether one takes `path` itself.
  std::optional<std::size_t> match_below(std::string_view root, std::string_view path) const;

 private:
  struct Matcher;
  std::vector<std::string> patterns_;
  std::unique_ptr<Matcher> matcher_;
};

// A backslash takes the meaning of what follows.
bool has_wildcard(std::string_view pattern);
// The pattern that takes this very path, and the path that a pattern without a wildcard means.
std::string pattern_of_path(std::string_view path);
std::string path_of_pattern(std::string_view pattern);

// The existing paths that an absolute pattern such as "/home/*/Documents" stands for, in path
// order; what it means if it holds no wildcard, there or not.
std::vector<std::string> expand_pattern(const std::string& pattern);
// Those of several patterns, such as the folders of a job.
std::vector<std::string> expand_patterns(const std::vector<std::string>& patterns);

}  // namespace kestrum
