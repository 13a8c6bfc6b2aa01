#include "kestrum/select/pattern.h"

#include <dirent.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <glob.h>
#include <re2/re2.h>
#include <re2/set.h>

#include <algorithm>

#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

// One character of a name: a UTF-8 sequence, or a single byte where the name is not UTF-8. The
// expressions work on bytes, since names are bytes.
constexpr std::string_view kOneBeyondAscii =
    "[\\xc2-\\xdf][\\x80-\\xbf]|[\\xe0-\\xef][\\x80-\\xbf]{2}|[\\xf0-\\xf4][\\x80-\\xbf]{3}|"
    "[\\x80-\\xff]";

std::string quoted_byte(char c) {
  static constexpr char kDigits[] = "0123456789abcdef";
  auto byte = static_cast<unsigned char>(c);
  if (std::isalnum(byte) != 0) return std::string(1, c);
  return {'\\', 'x', kDigits[byte >> 4], kDigits[byte & 15]};
}

std::string quoted(std::string_view text) {
  std::string out;
  for (char c : text) out += quoted_byte(c);
  return out;
}

// "[a-z]" at `at`; moves `at` behind it. Nothing if the bracket does not close.
std::optional<std::string> class_expression(std::string_view pattern, std::size_t& at) {
  std::size_t i = at + 1;
  bool negated = i < pattern.size() && (pattern[i] == '!' || pattern[i] == '^');
  if (negated) ++i;
  std::string ranges;
  std::string wide;  // members beyond ASCII, as alternatives
  for (bool first = true; i < pattern.size() && (first || pattern[i] != ']'); first = false) {
    auto c = static_cast<unsigned char>(pattern[i]);
    if (c >= 0x80) {
      std::size_t n = 1;
      while (i + n < pattern.size() && (static_cast<unsigned char>(pattern[i + n]) & 0xC0) == 0x80)
        ++n;
      wide += "|" + quoted(pattern.substr(i, n));
      i += n;
    } else if (i + 2 < pattern.size() && pattern[i + 1] == '-' && pattern[i + 2] != ']') {
      if (pattern[i] > pattern[i + 2]) return std::nullopt;
      ranges += quoted_byte(pattern[i]) + "-" + quoted_byte(pattern[i + 2]);
      i += 3;
    } else {
      ranges += quoted_byte(pattern[i++]);
    }
  }
  if (i >= pattern.size() || (ranges.empty() && wide.empty())) return std::nullopt;
  at = i + 1;
  if (negated) {
    // Members beyond ASCII cannot be taken out of a byte expression; they stay allowed.
    return fmt::format("(?:[^/\\x80-\\xff{}]|{})", ranges, kOneBeyondAscii);
  }
  std::string expression = ranges.empty() ? "(?:" + wide.substr(1) : "(?:[" + ranges + "]" + wide;
  return expression + ")";
}

std::string regular_expression(std::string_view pattern) {
  std::string out = "^";
  if (pattern.starts_with('/')) {
    pattern.remove_prefix(1);
  } else {
    out += "(?:.*/)?";
  }
  while (pattern.ends_with('/')) pattern.remove_suffix(1);
  for (std::size_t i = 0; i < pattern.size();) {
    char c = pattern[i];
    if (pattern.substr(i, 3) == "**/") {
      out += "(?:.*/)?";
      i += 3;
    } else if (pattern.substr(i, 2) == "**") {
      out += ".*";
      i += 2;
    } else if (c == '*') {
      out += "[^/]*";
      ++i;
    } else if (c == '?') {
      out += fmt::format("(?:[^/\\x80-\\xff]|{})", kOneBeyondAscii);
      ++i;
    } else if (c == '\\' && i + 1 < pattern.size()) {
      out += quoted_byte(pattern[i + 1]);
      i += 2;
    } else if (c == '[') {
      std::size_t at = i;
      auto expression = class_expression(pattern, at);
      out += expression ? *expression : quoted_byte(c);
      i = expression ? at : i + 1;
    } else {
      out += c == '/' ? "/" : quoted_byte(c);
      ++i;
    }
  }
  return out;
}

constexpr const char* kAndBelow = "(?:/.*)?$";

RE2::Options options(bool ignore_case) {
  RE2::Options options(RE2::Latin1);
  options.set_dot_nl(true);
  options.set_log_errors(false);
  options.set_case_sensitive(!ignore_case);
  return options;
}

}  // namespace

struct PatternSet::Matcher {
  explicit Matcher(bool ignore_case)
      : set(options(ignore_case), RE2::ANCHOR_BOTH),
        itself(options(ignore_case), RE2::ANCHOR_BOTH) {}
  RE2::Set set, itself;  // what a pattern takes with all below it, and without
};

PatternSet::PatternSet(std::vector<std::string> patterns, bool ignore_case)
    : patterns_(std::move(patterns)), matcher_(std::make_unique<Matcher>(ignore_case)) {
  for (const auto& pattern : patterns_) {
    std::string error;
    if (pattern.find_first_not_of('/') == std::string::npos ||
        matcher_->set.Add(regular_expression(pattern) + kAndBelow, &error) < 0 ||
        matcher_->itself.Add(regular_expression(pattern) + "$", &error) < 0) {
      throw Error(ErrorKind::kUsage, "not a usable pattern: \"" + printable(pattern) + "\"");
    }
  }
  if (!patterns_.empty() && !(matcher_->set.Compile() && matcher_->itself.Compile())) {
    throw Error(ErrorKind::kUsage, "these patterns are too much together");
  }
}

PatternSet::~PatternSet() = default;
PatternSet::PatternSet(PatternSet&&) noexcept = default;
PatternSet& PatternSet::operator=(PatternSet&&) noexcept = default;

std::optional<std::size_t> PatternSet::match(std::string_view path) const {
  if (patterns_.empty()) return std::nullopt;
  std::vector<int> matched;
  if (!matcher_->set.Match({path.data(), path.size()}, &matched)) return std::nullopt;
  return static_cast<std::size_t>(*std::min_element(matched.begin(), matched.end()));
}

std::optional<std::size_t> PatternSet::match_below(std::string_view root,
                                                   std::string_view path) const {
  if (patterns_.empty()) return std::nullopt;
  std::vector<int> matched, above;
  if (!matcher_->itself.Match({path.data(), path.size()}, &matched)) return std::nullopt;
  std::sort(matched.begin(), matched.end());
  for (int index : matched) {
    auto pattern = static_cast<std::size_t>(index);
    // "cache/**" takes all below a cache, but not below a folder in it that was named.
    bool spans = patterns_[pattern].find("**") != std::string::npos;
    if (!spans || root.empty()) return pattern;
    if (above.empty()) matcher_->set.Match({root.data(), root.size()}, &above);
    if (std::find(above.begin(), above.end(), index) == above.end()) return pattern;
  }
  return std::nullopt;
}

bool has_wildcard(std::string_view pattern) {
  for (std::size_t i = 0; i < pattern.size(); ++i) {
    if (pattern[i] == '\\') {
      ++i;
    } else if (pattern[i] == '*' || pattern[i] == '?' || pattern[i] == '[') {
      return true;
    }
  }
  return false;
}

std::string pattern_of_path(std::string_view path) {
  std::string pattern;
  for (char c : path) {
    if (c == '*' || c == '?' || c == '[' || c == '\\') pattern += '\\';
    pattern += c;
  }
  return pattern;
}

std::string path_of_pattern(std::string_view pattern) {
  std::string path;
  for (std::size_t i = 0; i < pattern.size(); ++i) {
    if (pattern[i] == '\\' && i + 1 < pattern.size()) ++i;
    path += pattern[i];
  }
  return path;
}

namespace {

// What glob(3) looks at and lists, with links followed where that is safe.
void* open_for_glob(const char* path) {
  Fd folder = open_named(path, O_RDONLY | O_DIRECTORY | O_NONBLOCK);
  DIR* dir = folder ? ::fdopendir(folder.get()) : nullptr;
  if (dir != nullptr) folder.release();
  return dir;
}

dirent* next_for_glob(void* dir) {
  return ::readdir(static_cast<DIR*>(dir));
}

void close_for_glob(void* dir) {
  ::closedir(static_cast<DIR*>(dir));
}

int look_for_glob(const char* path, struct stat* st) {
  return look_named(path, *st) ? 0 : -1;
}

// A link by itself, wherever it leads.
int look_at_link_for_glob(const char* path, struct stat* st) {
  std::string whole = absolute_path(path);
  Fd folder = open_named(parent_of(whole), O_PATH | O_DIRECTORY);
  return folder && below::look(folder.get(), whole == "/" ? "" : base_name(whole), *st) ? 0 : -1;
}

}  // namespace

std::vector<std::string> expand_pattern(const std::string& pattern) {
  if (!has_wildcard(pattern)) return {path_of_pattern(pattern)};
  glob_t found{};
  std::vector<std::string> paths;
  found.gl_opendir = open_for_glob;
  found.gl_readdir = next_for_glob;
  found.gl_closedir = close_for_glob;
  found.gl_stat = look_for_glob;
  found.gl_lstat = look_at_link_for_glob;
  if (::glob(pattern.c_str(), GLOB_NOSORT | GLOB_ALTDIRFUNC, nullptr, &found) == 0) {
    for (std::size_t i = 0; i < found.gl_pathc; ++i) paths.emplace_back(found.gl_pathv[i]);
  }
  ::globfree(&found);
  std::sort(paths.begin(), paths.end(),
            [](const std::string& a, const std::string& b) { return compare_paths(a, b) < 0; });
  return paths;
}

std::vector<std::string> expand_patterns(const std::vector<std::string>& patterns) {
  std::vector<std::string> paths;
  for (const std::string& pattern : patterns) {
    for (std::string& path : expand_pattern(pattern)) paths.push_back(std::move(path));
  }
  return paths;
}

}  // namespace kestrum
