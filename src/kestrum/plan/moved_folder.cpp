#include "kestrum/plan/moved_folder.h"

#include <fcntl.h>
#include <sys/stat.h>

#include <algorithm>
#include <deque>
#include <set>

#include "kestrum/base/below.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/place/mounts.h"

namespace kestrum {
namespace {

constexpr std::size_t kNames = 100;
constexpr std::size_t kFoldersListed = 5000;
constexpr unsigned kDepth = 4;  // below where a search begins
constexpr Nanos kTime = 5 * kSecond;

// Folders to begin at: those above the lost one that are there, the nearest first, but "/", which
// is everything; then the disks.
std::vector<std::string> beginnings(const std::string& folder) {
  std::vector<std::string> begin;
  for (std::string above = parent_of(folder); above != "/"; above = parent_of(above)) {
    if (is_named_folder(above)) begin.push_back(above);
  }
  std::set<std::string> shares;
  for (const MountedDisk& disk : mounted_disks()) {
    if (disk.is_share) {
      shares.insert(disk.folder);
    } else if (disk.folder != "/") {
      begin.push_back(disk.folder);
    }
  }
  std::erase_if(begin, [&](const std::string& at) {
    return std::any_of(shares.begin(), shares.end(),
                       [&](const std::string& share) { return is_within(at, share); });
  });
  return begin;
}

class FolderSearch {
 public:
  FolderSearch(const std::string& folder, const std::vector<std::string>& names,
               const StopRequest& stop)
      : folder_(folder), names_(names.begin(), names.end()), stop_(stop) {}

  std::optional<std::string> run() {
    for (const std::string& begin : beginnings(folder_)) {
      look_below(begin);
      if (best_ == names_.size()) break;
    }
    return found_;
  }

 private:
  bool is_over() const {
    return seen_.size() >= kFoldersListed || steady_now() - began_ > kTime || (stop_ && stop_());
  }

  // Breadth first, on one filesystem: what is near is more likely what is meant.
  void look_below(const std::string& begin) {
    Fd top = open_named(begin, O_RDONLY | O_DIRECTORY);
    struct stat st {};
    if (!top || ::fstat(top.get(), &st) != 0) return;
    dev_t device = st.st_dev;
    std::deque<std::pair<std::string, unsigned>> waiting = {{"", 0}};
    while (!waiting.empty() && !is_over()) {
      auto [rel, depth] = std::move(waiting.front());
      waiting.pop_front();
      Fd here = below::open_folder(top.get(), rel);
      std::vector<std::string> names;
      if (!here || ::fstat(here.get(), &st) != 0 || st.st_dev != device) continue;
      if (!seen_.insert({st.st_dev, st.st_ino}).second && !rel.empty()) continue;
      if (!below::list(here.get(), names)) continue;
      weigh(path_below(begin, rel), names);
      if (depth == kDepth) continue;
      for (const std::string& name : names) {
        if (!below::look(here.get(), name, st) || !S_ISDIR(st.st_mode)) continue;
        waiting.emplace_back(rel.empty() ? name : rel + "/" + name, depth + 1);
      }
    }
  }

  void weigh(const std::string& path, const std::vector<std::string>& names) {
    if (path == folder_) return;
    auto hits = static_cast<std::size_t>(
        std::count_if(names.begin(), names.end(),
                      [&](const std::string& name) { return names_.contains(name); }));
    bool enough = hits * 2 >= names_.size() &&
                  (hits > 1 || (hits == 1 && base_name(path) == base_name(folder_)));
    if (!enough || hits <= best_) return;
    best_ = hits;
    found_ = path;
  }

  const std::string& folder_;
  std::set<std::string> names_;
  const StopRequest& stop_;
  std::set<std::pair<dev_t, ino_t>> seen_;
  Nanos began_ = steady_now();
  std::size_t best_ = 0;
  std::optional<std::string> found_;
};

}  // namespace

std::vector<std::string> names_in(Index& index, SetId set, const std::string& folder) {
  std::vector<std::string> names;
  std::string rel = folder.substr(1);
  Index::Cursor cursor = index.state_at(set, rel);
  IndexEntry entry;
  while (names.size() < kNames && cursor.next(entry)) {
    const std::string& path = entry.line.entry.path;
    if (path == rel) continue;
    names.push_back(path.substr(rel.size() + 1));
    cursor.skip_below(path);
  }
  return names;
}

std::optional<std::string> find_moved(const std::string& folder,
                                      const std::vector<std::string>& names,
                                      const StopRequest& stop) {
  if (names.empty()) return std::nullopt;
  return FolderSearch(folder, names, stop).run();
}

}  // namespace kestrum
