#include "kestrum/inspect/trace.h"

#include <algorithm>
#include <deque>
#include <set>

#include "kestrum/access/resolve_path.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/select/pattern.h"

namespace kestrum {
namespace {

constexpr std::size_t kMostNames = 50;  // that one file is followed through

class Tracer {
 public:
  Tracer(std::vector<ReadSession*> sessions, const StopRequest& stop)
      : sessions_(std::move(sessions)), stop_(stop) {}

  // All versions of a path, newest first.
  std::vector<TracedVersion> versions_of(const std::string& path) {
    std::vector<TracedVersion> versions;
    for (ReadSession* session : sessions_) {
      for (TracedVersion& version : versions_on(*session, path)) {
        versions.push_back(std::move(version));
      }
    }
    if (sessions_.size() == 1) return versions;
    std::stable_sort(
        versions.begin(), versions.end(), [](const TracedVersion& a, const TracedVersion& b) {
          return std::pair(b.last_seen, b.first_seen) < std::pair(a.last_seen, a.first_seen);
        });
    if (versions.empty()) return versions;
    TracedVersion& last = versions.front();
    ReadSession& newest =
        **std::max_element(sessions_.begin(), sessions_.end(), [](ReadSession* a, ReadSession* b) {
          return a->sets().back().started < b->sets().back().started;
        });
    SetId point = newest.sets().back().set;
    if (last.end == TracedVersion::End::kStillThere && last.disk != newest.disk() &&
        !newest.index().find(point, path)) {
      last.end = TracedVersion::End::kNotThere;
      last.not_at = newest.name_of(point);
    }
    return versions;
  }

  // Whether one of the first `count` disks ever held it.
  bool held(const std::string& path, std::size_t count) {
    return std::any_of(
        sessions_.begin(), sessions_.begin() + static_cast<std::ptrdiff_t>(count),
        [&](ReadSession* session) { return !session->index().history_of(path).empty(); });
  }

  void check_stop() const {
    if (stop_ && stop_()) throw Error(ErrorKind::kStopped, "stopped");
  }

 private:
  std::vector<TracedVersion> versions_on(ReadSession& session, const std::string& path) {
    Index& index = session.index();
    const std::optional<SetId>& suspect = session.suspect_since();
    std::vector<TracedVersion> versions;
    for (const PathVersion& part : index.history_of(path)) {
      const Entry& e = part.entry.line.entry;
      TracedVersion version{"/" + path, session.disk(),   e.type,
                            e.size,     e.mtime.moment(), part.entry.line.digest};
      for (const IndexedSet& set : session.sets()) {
        if (set.set < part.first || (part.until && !(set.set < *part.until))) continue;
        version.sets.push_back(set.set);
        if (!suspect || set.set < *suspect) version.sound = set.set;
        if (version.first_seen == 0) version.first_seen = set.started;
        version.last_seen = set.started;
      }
      if (part.until) {
        version.end = part.ended == EntryType::kGone      ? TracedVersion::End::kGone
                      : part.ended == EntryType::kLeftOut ? TracedVersion::End::kLeftOut
                                                          : TracedVersion::End::kReplaced;
      }
      if (version.end == TracedVersion::End::kGone) {
        version.moved_to = absolute(index.moved_to(part, *part.until));
      }
      bool fresh = versions.empty() || versions.back().end != TracedVersion::End::kReplaced;
      if (fresh) version.moved_from = absolute(index.moved_from(part, part.first));
      if (version.sets.empty()) continue;  // of sets that were pruned
      // Owner, mode or the like changed: the same version to whoever looks for content.
      TracedVersion* last = versions.empty() ? nullptr : &versions.back();
      if (last != nullptr && last->end == TracedVersion::End::kReplaced &&
          last->digest == version.digest && last->type == version.type &&
          last->modified == version.modified) {
        last->sets.insert(last->sets.end(), version.sets.begin(), version.sets.end());
        last->last_seen = version.last_seen;
        if (version.sound) last->sound = version.sound;
        last->end = version.end;
        last->moved_to = version.moved_to;
        continue;
      }
      versions.push_back(std::move(version));
    }
    std::reverse(versions.begin(), versions.end());
    return versions;
  }

  static std::string absolute(const std::optional<std::string>& path) {
    return path ? "/" + *path : "";
  }

  std::vector<ReadSession*> sessions_;
  const StopRequest& stop_;
};

}  // namespace

std::uint64_t trace(const std::vector<ReadSession*>& sessions, const std::string& typed,
                    bool ignore_case, const StopRequest& stop,
                    const std::function<void(const std::vector<TracedVersion>&)>& visit) {
  bool anchored = false;
  std::string path = stored_form(typed, anchored);
  Tracer tracer(sessions, stop);
  std::set<std::string> told;  // names that moves led to
  std::uint64_t count = 0;
  auto tell = [&](const std::string& first) {
    std::deque<std::string> names = {first};
    for (std::size_t i = 0; i < names.size() && i < kMostNames; ++i) {
      if (i > 0 && !told.insert(names[i]).second) continue;
      std::vector<TracedVersion> versions = tracer.versions_of(names[i]);
      if (versions.empty()) continue;
      if (versions[0].type == EntryType::kFolder && first != path) return;
      for (const TracedVersion& version : versions) {
        for (const std::string& other : {version.moved_from, version.moved_to}) {
          if (other.empty()) continue;
          std::string name = other.substr(1);
          if (std::find(names.begin(), names.end(), name) == names.end()) names.push_back(name);
        }
      }
      ++count;
      visit(versions);
    }
  };
  // What exists literally is meant literally; a folder means everything below it.
  bool literal = tracer.held(path, sessions.size());
  PatternSet pattern({(anchored ? "/" : "") + (ignore_case ? lower_ascii(path) : path)});
  std::optional<std::string> below;
  if (literal && anchored) below = path;
  for (std::size_t i = 0; i < sessions.size(); ++i) {
    sessions[i]->index().each_path(below, [&](const std::string& candidate) {
      tracer.check_stop();
      bool match = literal && is_within(candidate, path);
      match = match || pattern.match(ignore_case ? lower_ascii(candidate) : candidate);
      if (match && !told.contains(candidate) && !tracer.held(candidate, i)) tell(candidate);
    });
  }
  return count;
}

}  // namespace kestrum
