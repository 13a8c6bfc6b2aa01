#include "kestrum/select/walk.h"

#include <fcntl.h>
#include <linux/magic.h>
#include <sys/vfs.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <tuple>

#include "kestrum/base/below.h"
#include "kestrum/base/followed.h"
#include "kestrum/select/litter.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/source_file.h"

namespace kestrum {
namespace {

// Filesystems that hold no files of anybody.
bool is_pseudo_filesystem(int fd) {
  struct statfs fs {};
  if (::fstatfs(fd, &fs) != 0) return false;
  constexpr std::array<long, 12> kPseudo = {
      PROC_SUPER_MAGIC,    SYSFS_MAGIC,    DEVPTS_SUPER_MAGIC, CGROUP_SUPER_MAGIC,
      CGROUP2_SUPER_MAGIC, DEBUGFS_MAGIC,  TRACEFS_MAGIC,      SECURITYFS_MAGIC,
      BPF_FS_MAGIC,        PSTOREFS_MAGIC, EFIVARFS_MAGIC,     BINFMTFS_MAGIC};
  return std::find(kPseudo.begin(), kPseudo.end(), static_cast<long>(fs.f_type)) != kPseudo.end();
}

}  // namespace

struct Walk::Level {
  std::shared_ptr<const Fd> fd;
  dev_t device = 0;
  std::string prefix;  // of the paths in this folder
  std::string root;    // that this lies in, relative to "/"
  bool passage = false;
  const TreeSnapshot* snapshot = nullptr;  // that its folder is in
  std::string live;                        // of that: where it is in the live tree
  std::vector<uid_t> links;                // of a passage: to whom links on the way belong
  std::vector<std::string> names;
  std::size_t next = 0;
};

void WalkEvent::clear() {
  let_go();
  path.clear();
  std::string path_room = std::move(path);
  WalkPlace at_room = std::move(at);
  *this = WalkEvent();
  path = std::move(path_room);
  at = std::move(at_room);
}

Walk::Walk(const std::vector<std::string>& roots, const Selection& selection,
           const SnapshotView* snapshots)
    : selection_(selection), snapshots_(snapshots) {
  for (const std::string& root : in_path_order(roots)) roots_.push_back(root.substr(1));
}

Walk::~Walk() = default;

Walk::Below Walk::below(const std::string& path) const {
  auto first =
      std::upper_bound(roots_.begin(), roots_.end(), path,
                       [](const auto& a, const auto& b) { return compare_paths(a, b) < 0; });
  auto last = first;
  while (last != roots_.end() && is_within(*last, path)) ++last;
  return {static_cast<std::size_t>(first - roots_.begin()),
          static_cast<std::size_t>(last - roots_.begin())};
}

// The names in the folder `path` that lead to the roots below it.
std::vector<std::string> Walk::ways(const std::string& path, const Below& below) const {
  std::vector<std::string> names;
  std::size_t skip = path.empty() ? 0 : path.size() + 1;
  for (std::size_t i = below.first; i < below.last; ++i) {
    std::string name = roots_[i].substr(skip, roots_[i].find('/', skip) - skip);
    if (names.empty() || names.back() != name) names.push_back(std::move(name));
  }
  return names;
}

bool Walk::next(WalkEvent& event) {
  for (;;) {
    event.clear();
    if (!unreachable_.empty()) {
      event.kind = WalkEvent::Kind::kUnknown;
      event.is_root = true;
      std::tie(event.path, event.error) = unreachable_.front();
      unreachable_.pop_front();
      return true;
    }
    while (!levels_.empty() && levels_.back()->next == levels_.back()->names.size()) {
      levels_.pop_back();
    }
    if (levels_.empty()) {
      if (begun_ || roots_.empty()) return false;
      begun_ = true;
      parent_ = std::make_shared<const Fd>(open_named("/", O_PATH | O_DIRECTORY));
      struct stat st {};
      Level level;
      level.passage = true;
      if (::fstat(parent_->get(), &st) == 0) level.device = st.st_dev;
      if (visit(event, level, "")) return true;
      continue;
    }
    const Level& level = *levels_.back();
    std::string name = std::move(levels_.back()->names[levels_.back()->next++]);
    event.path.assign(level.prefix).append(name);
    parent_ = level.fd;
    if (visit(event, level, name)) return true;
  }
}

// What is not there, or cannot be looked at.
bool Walk::cannot_look(WalkEvent& event, const Below& roots, int error) {
  for (std::size_t i = roots.first; i < roots.last; ++i)
    unreachable_.emplace_back(roots_[i], error);
  event.kind = WalkEvent::Kind::kUnknown;
  event.error = error;
  return event.is_root || !roots.any();
}

bool Walk::visit(WalkEvent& event, const Level& level, const std::string& name) {
  name_ = name;
  Below roots = below(event.path);
  event.is_root = roots.first > 0 && roots_[roots.first - 1] == event.path;
  bool passage = level.passage && !event.is_root;
  bool seen = level.snapshot != nullptr ? look_in_snapshot(event, level)
                                        : below::look(parent_->get(), name, event.st);
  if (level.snapshot == nullptr) snapshot_ = nullptr;
  if (!seen) return cannot_look(event, roots, errno);
  // A root is what the user named, so a link there, or on the way, is followed.
  links_ = level.links;
  bool follows = event.is_root || passage;
  if (follows && S_ISLNK(event.st.st_mode) && !follow_link(event)) {
    return cannot_look(event, roots, errno);
  }
  if (event.is_root && !owners_allow(links_, event.st)) {
    return cannot_look(event, roots, errno);
  }
  if (event.is_root && snapshots_ != nullptr && snapshot_ == nullptr) take_snapshot_of(event);
  bool folder = S_ISDIR(event.st.st_mode);
  event.mount = folder && event.st.st_dev != level.device;
  if (passage && folder) {
    event.kind = WalkEvent::Kind::kPassage;
    event.at.set(parent_, name_);
    pass_through(event, roots);
    return !event.path.empty();
  }
  if (passage || (!folder && roots.any())) cannot_look(event, roots, ENOTDIR);
  if (passage) return false;
  event.kind = WalkEvent::Kind::kEntry;
  event.error = 0;
  event.at.set(parent_, name_);
  const std::string& root = event.is_root ? event.path : level.root;
  if (!event.is_root) {
    event.rule = selection_.by_path_below(root, event.path);
    if (event.rule == Rule::kTaken && S_ISREG(event.st.st_mode)) {
      event.rule = selection_.by_file(event.path, static_cast<std::uint64_t>(event.st.st_size));
    }
  }
  if (S_ISSOCK(event.st.st_mode)) event.rule = Rule::kSocket;
  bool own = folder && (selection_.is_own(event.st.st_dev, event.st.st_ino) ||
                        is_snapshot_folder(name, event.st));
  if (own) event.rule = Rule::kOwn;
  if (event.rule != Rule::kTaken) {
    leave_out(event, own ? Below{0, 0} : roots);
  } else if (folder) {
    enter(event, root, roots);
  }
  return true;
}

bool Walk::follow_link(WalkEvent& event) {
  if (snapshot_ != nullptr) {  // where it leads is a matter of the live tree
    parent_ = SnapshotView::live_folder(parent_of(live_));
    snapshot_ = nullptr;
    if (!*parent_) return false;
  }
  Followed at = follow(parent_->get(), name_);
  if (!at || !below::look(at.parent.get(), at.name, event.st)) return false;
  parent_ = std::make_shared<const Fd>(std::move(at.parent));
  name_ = std::move(at.name);
  links_.insert(links_.end(), at.owners.begin(), at.owners.end());
  return true;
}

// Links on the way there were followed in the live tree; from here on none is.
void Walk::take_snapshot_of(WalkEvent& event) {
  SnapshotView::Place place = snapshots_->find(parent_->get(), name_, event.st);
  if (!place) return;
  parent_ = std::move(place.folder);
  name_ = std::move(place.name);
  event.st = place.st;
  live_ = std::move(place.live);
  snapshot_ = place.snapshot;
}

// What a snapshot has only a stand-in for is looked at where it is.
bool Walk::look_in_snapshot(WalkEvent& event, const Level& level) {
  snapshot_ = level.snapshot;
  live_ = path_below(level.live, name_);
  if (!below::look(parent_->get(), name_, event.st)) return false;
  if (!snapshots_->is_elsewhere(live_, event.st)) {
    make_live(*snapshot_, event.st);
    return true;
  }
  snapshot_ = nullptr;
  parent_ = SnapshotView::live_folder(level.live);
  return *parent_ && below::look(parent_->get(), name_, event.st);
}

// A root below a folder that is left out is taken all the same.
void Walk::leave_out(WalkEvent& event, const Below& roots) {
  bool leads_on = S_ISDIR(event.st.st_mode) && roots.any();
  event.kind = leads_on ? WalkEvent::Kind::kPassage : WalkEvent::Kind::kLeftOut;
  if (leads_on) pass_through(event, roots);
}

// Goes on with what leads to the roots below a folder, and nothing else in it.
void Walk::pass_through(const WalkEvent& event, const Below& roots) {
  auto level = std::make_unique<Level>();
  level->fd = std::make_shared<const Fd>(below::open_passage(parent_->get(), name_));
  if (!*level->fd) {
    int error = errno;
    for (std::size_t i = roots.first; i < roots.last; ++i)
      unreachable_.emplace_back(roots_[i], error);
    return;
  }
  level->device = event.st.st_dev;
  level->prefix = event.path.empty() ? "" : event.path + "/";
  level->passage = true;
  level->snapshot = snapshot_;
  level->live = live_;
  level->links = links_;
  level->names = ways(event.path, roots);
  levels_.push_back(std::move(level));
}

void Walk::enter(WalkEvent& event, const std::string& root, const Below& roots) {
  if (event.mount && !event.is_root && !selection_.rules().other_filesystems) {
    event.contents_left_out = true;
    return pass_through(event, roots);
  }
  Fd fd = below::open_folder(parent_->get(), name_);
  if (!fd) {
    event.listing_error = errno;
    return pass_through(event, roots);
  }
  if (event.mount && !event.is_root && is_pseudo_filesystem(fd.get())) {
    event.contents_left_out = true;
    return pass_through(event, roots);
  }
  if (!event.is_root && selection_.rules().leave_out_litter && has_cache_tag(fd.get())) {
    event.rule = Rule::kLitter;
    return leave_out(event, roots);
  }
  auto level = std::make_unique<Level>();
  if (!below::list(fd.get(), level->names)) event.listing_error = errno;
  event.empty = level->names.empty() && event.listing_error == 0;
  // What leads to a root is asked for also where it was not listed.
  // Byte order of sibling names is path order: '/' counts as 0x00, below every other byte.
  if (roots.any()) {
    for (std::string& name : ways(event.path, roots)) level->names.push_back(std::move(name));
    std::sort(level->names.begin(), level->names.end());
    level->names.erase(std::unique(level->names.begin(), level->names.end()), level->names.end());
  }
  level->fd = std::make_shared<const Fd>(std::move(fd));
  level->device = event.st.st_dev;
  level->prefix = event.path.empty() ? "" : event.path + "/";
  level->root = root;
  level->snapshot = snapshot_;
  level->live = live_;
  levels_.push_back(std::move(level));
}

}  // namespace kestrum
