#include "kestrum/plan/lacking.h"

#include <algorithm>

#include "kestrum/base/file.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/selection.h"

namespace kestrum {
namespace {

constexpr std::size_t kMostPaths = 4096;

void drop_covered(std::vector<std::string>& paths) {
  std::vector<std::string> kept;
  for (std::string& path : in_path_order(std::move(paths))) {
    if (kept.empty() || !is_within(path, kept.back())) kept.push_back(std::move(path));
  }
  paths = std::move(kept);
}

void add(std::vector<Lacking>& list, Lacking entry) {
  if (std::find(list.begin(), list.end(), entry) == list.end()) list.push_back(std::move(entry));
}

}  // namespace

void UnreadPaths::add(const std::string& path) {
  if (!paths_.empty() && is_within(path, paths_.back())) return;
  paths_.push_back(path);
  if (paths_.size() > kMostPaths) fold();
}

void UnreadPaths::fold() {
  drop_covered(paths_);
  while (paths_.size() > kMostPaths / 2) {
    for (std::string& path : paths_) path = folder_above(path);
    drop_covered(paths_);
  }
}

unsigned UnreadPaths::disk_at(const std::string& path) const {
  unsigned disk = 0;
  for (const std::string& mount : mounts_) {
    if (path != mount && is_within(path, mount)) disk = std::max(disk, components_of(mount));
  }
  return disk;
}

void UnreadPaths::add_left_out(const std::string& path, const std::vector<Lacking>& lacking) {
  bool matters = std::any_of(lacking.begin(), lacking.end(), [&](const Lacking& lack) {
    return is_within(lack.path, path) || is_within(path, lack.path);
  });
  if (matters) left_out_.push_back(path);
}

bool UnreadPaths::is_chosen(const std::string& path) const {
  return !is_within_one(path, left_out_);
}

std::optional<std::vector<Lacking>> lacking_now(
    Index& index, const OwedContent& owed, const UnreadPaths& unread, const Roots& roots,
    const std::function<void(const std::string&, bool)>& tell) {
  if (!owed.lacking) return std::nullopt;
  std::vector<std::string> paths = unread.paths();
  drop_covered(paths);
  std::vector<Lacking> now;
  const bool disks = index.knows_disks();
  const std::vector<std::string>& released = roots.lost.released;
  auto let_go = [&](const std::string& path, const std::string& disk) {
    bool in_a_root =
        std::any_of(roots.known.begin(), roots.known.end(),
                    [&](const KnownRoot& root) { return is_within("/" + path, root.path); });
    return !in_a_root || !unread.is_chosen(path) ||
           std::find(released.begin(), released.end(), "/" + disk) != released.end();
  };
  // Where a disk is mounted, or was, that hides something of a set, or held it.
  auto each_hidden = [&](const std::string& path, SetId set, std::optional<SetId> since,
                         const std::function<bool(std::string)>& visit) {
    if (!disks && unread.mounts() == 0) return;
    index.each_known(path, set, since, [&](const std::string& known, unsigned disk) {
      unsigned now_on = unread.disk_at(known);
      std::string at(first_components(known, std::max(disk, now_on)));
      if (disk == now_on || let_go(known, at)) return true;
      tell(at, now_on > disk);
      return visit(at);
    });
  };
  // What can be read again is held by the new set, or was seen to be gone.
  for (const Lacking& before : *owed.lacking) {
    each_hidden(before.path, before.set, std::nullopt, [&](const std::string&) {
      add(now, before);
      return false;
    });
    for (const std::string& path : paths) {
      if (is_within(before.path, path)) {
        add(now, before);
      } else if (is_within(path, before.path)) {
        add(now, {path, before.set});
      }
    }
  }
  for (const auto& compared : owed.compared) {
    for (const std::string& path : paths) {
      if (index.knows_below(path, compared.set, compared.since)) add(now, {path, compared.set});
    }
    if (compared.by_path) continue;
    each_hidden("", compared.set, compared.since, [&](std::string at) {
      add(now, {std::move(at), compared.set});
      return true;
    });
  }
  std::sort(now.begin(), now.end(), [](const Lacking& a, const Lacking& b) {
    int order = compare_paths(a.path, b.path);
    return order != 0 ? order < 0 : a.set < b.set;
  });
  return now;
}

}  // namespace kestrum
