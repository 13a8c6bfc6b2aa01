#include "kestrum/restore/placement.h"

#include <sys/stat.h>

#include "kestrum/base/file.h"

namespace kestrum {

Clash Placer::decide(const Entry& entry, const TargetPath& at, const struct stat& st) {
  Clash clash = request_.clash;
  if (clash == Clash::kReplaceOlder) {
    return FileTime(st.st_mtim) < entry.mtime ? Clash::kReplace : Clash::kSkip;
  }
  if (clash != Clash::kAsk) return clash;
  if (!request_.ask || request_.rehearse) return Clash::kSkip;
  return request_.ask({at.shown, static_cast<std::uint64_t>(st.st_size), entry.size,
                       FileTime(st.st_mtim).moment(), entry.mtime.moment()});
}

Placement Placer::place(const Entry& entry, const std::function<bool(const TargetPath&)>& same) {
  std::optional<TargetPath> at = targets_.of(entry.path);
  if (!at) {
    TargetPath nowhere;
    nowhere.shown = "/" + entry.path;
    return {nowhere, false, "something is in the way of its folder"};
  }
  constexpr const char* kSame = "already there, the same";
  struct stat st {};
  if (!at->tree->exists(at->rel, &st)) return {*at};
  if (same(*at)) return {*at, false, kSame, true};
  Clash clash = decide(entry, *at, st);
  // Two names that this filesystem takes for one: the other may be of this very restore.
  bool folded = !at->tree->has_this_name(at->rel);
  if (folded && clash == Clash::kReplace) clash = Clash::kBoth;
  if (clash == Clash::kReplace) return {*at, true};
  if (clash == Clash::kBoth) {
    for (unsigned number = 1;; ++number) {
      TargetPath other = targets_.beside(*at, number);
      if (!other.tree->exists(other.rel)) return {other};
      if (same(other)) return {other, false, kSame, true};
    }
  }
  bool is_newer = request_.clash == Clash::kReplaceOlder && FileTime(st.st_mtim) >= entry.mtime;
  return {*at, false,
          S_ISDIR(st.st_mode) ? "a folder has this name"
          : folded            ? "this filesystem takes its name for that of another file there"
          : is_newer          ? "exists already, and is not older"
                              : "exists already"};
}

TargetPath Placer::free_beside(const TargetPath& at) const {
  struct stat st {};
  for (unsigned number = 1;; ++number) {
    TargetPath other = targets_.beside(at, number);
    if (!other.tree->exists(other.rel, &st) || S_ISDIR(st.st_mode)) return other;
  }
}

}  // namespace kestrum
