#include "kestrum/system/folder_watcher.h"

#include <sys/inotify.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "kestrum/base/error.h"
#include "kestrum/select/walk.h"

namespace kestrum {
namespace {

constexpr std::uint32_t kEvents = IN_CLOSE_WRITE | IN_MODIFY | IN_ATTRIB | IN_CREATE | IN_DELETE |
                                  IN_MOVED_FROM | IN_MOVED_TO | IN_DELETE_SELF | IN_ONLYDIR |
                                  IN_DONT_FOLLOW | IN_EXCL_UNLINK;

}  // namespace

FolderWatcher::FolderWatcher(std::vector<std::string> roots, const Selection& selection)
    : roots_(std::move(roots)), source_(roots_), selection_(selection) {
  watch_all();
}

void FolderWatcher::watch_all() {
  folders_.clear();
  incomplete_ = false;
  fd_.reset(::inotify_init1(IN_NONBLOCK | IN_CLOEXEC));
  incomplete_ = !fd_;  // as many watchers as the system allows are there already
  for (const auto& root : roots_) watch_tree(root, true);
}

// A folder and all below it that the selection takes. The walk of a run knows the rules best.
void FolderWatcher::watch_tree(const std::string& path, bool from_scratch) {
  if (from_scratch) above_.clear();
  Walk walk({path}, selection_);
  WalkEvent event;
  while (!incomplete_ && walk.next(event)) {
    bool folder = event.kind == WalkEvent::Kind::kEntry && S_ISDIR(event.st.st_mode);
    if (folder && !event.contents_left_out) watch(event.path);
  }
}

void FolderWatcher::watch(const std::string& path) {
  int watch = ::inotify_add_watch(fd_.get(), ("/" + path).c_str(), kEvents);
  if (watch < 0) {
    if (errno == ENOSPC || errno == ENOMEM) incomplete_ = true;
    return;  // gone already, or not ours to read: what the run finds out
  }
  while (!above_.empty() && !is_within(path, above_.back().first)) above_.pop_back();
  Folder& folder = folders_[watch];
  bool below = !above_.empty() && above_.back().first != path;
  folder.parent = below ? above_.back().second : -1;
  std::size_t skip = below && !above_.back().first.empty() ? above_.back().first.size() + 1 : 0;
  folder.name = path.substr(skip);
  above_.emplace_back(path, watch);
}

std::string FolderWatcher::path_of(int watch) const {
  std::string path;
  // A folder moved into itself cannot be; the bound guards against a kernel that says so.
  for (int depth = 0; depth < 4096; ++depth) {
    auto it = folders_.find(watch);
    if (it == folders_.end()) return path;
    const std::string& name = it->second.name;
    path = path.empty() ? name : name.empty() ? path : name + "/" + path;
    if (it->second.parent < 0) return path;
    watch = it->second.parent;
  }
  return path;
}

bool FolderWatcher::concerns(const std::string& path, bool is_folder) const {
  // Made and removed by every run.
  if (is_folder && base_name(path).starts_with(kSnapshotPrefix)) return false;
  std::string_view root;
  for (const std::string& known : roots_) {
    if (is_within("/" + path, known) && known.size() > root.size()) root = known;
  }
  root.remove_prefix(std::min<std::size_t>(1, root.size()));
  if (selection_.by_way_below(root, path) != Rule::kTaken) return false;
  if (is_folder) return true;
  struct stat st {};
  if (!source_.look(path, st)) return true;  // gone: it may have been a file of ours
  if (!S_ISREG(st.st_mode)) return !S_ISSOCK(st.st_mode);
  return selection_.by_file(path, static_cast<std::uint64_t>(st.st_size)) == Rule::kTaken;
}

bool FolderWatcher::changed() {
  if (!fd_) return false;
  bool changed = false, lost = false;
  alignas(inotify_event) char buffer[64 << 10];
  for (;;) {
    ssize_t n = ::read(fd_.get(), buffer, sizeof buffer);
    if (n <= 0) break;
    for (ssize_t at = 0; at < n;) {
      const auto* event = reinterpret_cast<const inotify_event*>(buffer + at);
      at += static_cast<ssize_t>(sizeof(inotify_event) + event->len);
      if ((event->mask & IN_Q_OVERFLOW) != 0) {
        lost = true;
        continue;
      }
      if ((event->mask & IN_IGNORED) != 0) {
        folders_.erase(event->wd);
        continue;
      }
      if (lost || !folders_.contains(event->wd)) continue;
      bool is_folder = (event->mask & IN_ISDIR) != 0;
      bool appeared = is_folder && (event->mask & (IN_CREATE | IN_MOVED_TO)) != 0;
      // Once something has changed, only new folders matter.
      if (changed && !appeared) continue;
      std::string path = path_of(event->wd);
      if (event->len > 0) path += (path.empty() ? "" : "/") + std::string(event->name);
      if (!concerns(path, is_folder)) continue;
      changed = true;
      if (appeared && !incomplete_) {
        above_.assign({{path_of(event->wd), event->wd}});
        watch_tree("/" + path, false);
      }
    }
  }
  // What was lost may have been new folders: everything is watched anew.
  if (lost) watch_all();
  return changed || lost;
}

}  // namespace kestrum
