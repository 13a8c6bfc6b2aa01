#include "kestrum/access/paths_ever.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "kestrum/access/resolve_path.h"
#include "kestrum/base/file.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/pattern.h"

namespace kestrum {
namespace {

// Folders above those of the job are known for their owners and modes alone: no pattern means them.
bool is_above_roots(ReadSession& session, const std::string& path) {
  const std::vector<IndexedSet>& sets = session.sets();
  return std::none_of(sets.begin(), sets.end(), [&](const IndexedSet& set) {
    return is_within_one("/" + path, root_paths(set));
  });
}

bool holds_anything(ReadSession& session, const std::string& path) {
  if (path.empty() || !session.index().history_of(path).empty()) return true;
  bool any = false;
  session.index().each_version(path, session.sets().back().set,
                               [&](const PathVersion&) { any = true; });
  return any;
}

}  // namespace

std::vector<std::string> paths_ever(JobReader& reader, const std::string& typed) {
  bool anchored = false;
  std::string path = stored_form(typed, anchored);
  std::vector<ReadSession*> sessions = reader.sessions();
  for (ReadSession* session : sessions) {
    if (holds_anything(*session, path)) return {path};
  }
  for (ReadSession* session : sessions) {  // it may lie elsewhere here
    std::string then = stored_form_at(*session, session->sets().front().set, typed, anchored);
    if (then != path && holds_anything(*session, then)) return {then};
  }
  std::set<std::string> found;
  if (!anchored || has_wildcard(path)) {
    PatternSet pattern({(anchored ? "/" : "") + path});
    for (ReadSession* session : sessions) {
      session->index().each_path(std::nullopt, [&](const std::string& candidate) {
        if (pattern.match(candidate) && !is_above_roots(*session, candidate)) {
          found.insert(candidate);
        }
      });
    }
  }
  if (!found.empty()) return {found.begin(), found.end()};
  throw Error(ErrorKind::kNoMatch,
              printable(anchored ? "/" + path : typed) + ": no restore point holds it",
              "kestrum trace " + reader.job_name() + " " + shell_word(base_name(path)))
      .about_path(typed);
}

std::vector<PathAt> last_seen_of(JobReader& reader, const std::string& typed) {
  std::vector<PathAt> found;
  for (const std::string& path : paths_ever(reader, typed)) {
    auto point = reader.last_seen(path);
    if (!point) continue;
    auto entry = point->session->index().find(point->set, path);
    found.push_back({path, *point, entry && entry->line.entry.type == EntryType::kFolder});
  }
  if (!found.empty()) return found;
  throw Error(ErrorKind::kNoMatch, printable(typed) + ": no restore point that is kept holds it",
              "kestrum trace " + reader.job_name() + " " + shell_word(base_name(typed)))
      .about_path(typed);
}

}  // namespace kestrum
