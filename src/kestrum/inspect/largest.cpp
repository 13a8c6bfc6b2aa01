#include "kestrum/inspect/largest.h"

#include <algorithm>
#include <map>
#include <string_view>

#include "kestrum/base/file.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

constexpr std::size_t kMostListed = 12;
constexpr unsigned kLevelsBelow = 2;                // of a folder of the job
constexpr std::size_t kMostFoldersSummed = 50'000;  // more are summed up in those above them

// The first few by some measure, of however many are added.
class Top {
 public:
  explicit Top(bool by_growth) : by_growth_(by_growth) {}
  void add(NamedSize item) {
    if (list_.size() == kMostListed && !before(item, list_.back())) return;
    list_.insert(std::upper_bound(list_.begin(), list_.end(), item,
                                  [&](const auto& a, const auto& b) { return before(a, b); }),
                 std::move(item));
    if (list_.size() > kMostListed) list_.pop_back();
  }
  std::vector<NamedSize> take() { return std::move(list_); }

 private:
  bool before(const NamedSize& a, const NamedSize& b) const {
    return by_growth_ ? a.grown > b.grown : a.bytes > b.bytes;
  }
  bool by_growth_;
  std::vector<NamedSize> list_;
};

struct FolderSum {
  std::uint64_t now = 0, before = 0;
};

class FolderSums {
 public:
  explicit FolderSums(const IndexedSet& set) {
    for (const std::string& root : root_paths(set)) levels_[root] = components_of(root);
  }
  void add(const std::string& path, std::uint64_t bytes, std::uint64_t FolderSum::*when) {
    // Of the folders of the job that it lies in, the outermost.
    auto root = std::find_if(levels_.begin(), levels_.end(), [&](const auto& candidate) {
      return is_within(path, candidate.first);
    });
    if (root == levels_.end()) return;
    unsigned most = std::min(root->second + kLevelsBelow, components_of(path) - 1);
    for (unsigned level = root->second; level <= most; ++level) {
      std::string folder(first_components(path, level));
      auto sum = sums_.find(folder);
      if (sum == sums_.end()) {
        if (level > root->second && sums_.size() >= kMostFoldersSummed) return;
        sum = sums_.emplace(std::move(folder), FolderSum{}).first;
      }
      sum->second.*when += bytes;
    }
  }
  std::vector<NamedSize> largest(bool compared) const {
    Top top(false);
    for (const auto& [folder, sum] : sums_) {
      std::int64_t grown = compared ? static_cast<std::int64_t>(sum.now - sum.before) : 0;
      if (sum.now > 0) top.add({folder, sum.now, grown});
    }
    return top.take();
  }

 private:
  std::map<std::string, unsigned> levels_;
  std::map<std::string, FolderSum> sums_;
};

// The next file of a restore point.
bool next_file(Index::Cursor& cursor, IndexEntry& entry) {
  while (cursor.next(entry)) {
    if (entry.line.entry.type == EntryType::kFile) return true;
  }
  return false;
}

}  // namespace

LargestPaths largest_paths(Index& index, const IndexedSet& newest, std::optional<SetId> before) {
  Top files(false), grown(true);
  FolderSums folders(newest);
  Index::Cursor now = index.state_at(newest.set);
  std::optional<Index::Cursor> then;
  if (before) then.emplace(index.state_at(*before));
  IndexEntry current, earlier;
  bool more = then && next_file(*then, earlier);
  auto take_earlier = [&] {
    folders.add("/" + earlier.line.entry.path, earlier.line.entry.size, &FolderSum::before);
    more = next_file(*then, earlier);
  };
  while (next_file(now, current)) {
    const Entry& entry = current.line.entry;
    std::uint64_t was = 0;
    while (more && compare_paths(earlier.line.entry.path, entry.path) < 0) take_earlier();
    if (more && earlier.line.entry.path == entry.path) {
      was = earlier.line.entry.size;
      take_earlier();
    }
    NamedSize item{"/" + entry.path, entry.size, static_cast<std::int64_t>(entry.size - was)};
    folders.add(item.path, entry.size, &FolderSum::now);
    if (then && item.grown > 0) grown.add(item);
    if (!then) item.grown = 0;
    files.add(std::move(item));
  }
  while (more) take_earlier();
  return {files.take(), folders.largest(then.has_value()), grown.take()};
}

}  // namespace kestrum
