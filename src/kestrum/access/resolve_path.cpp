#include "kestrum/access/resolve_path.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/base/file.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/select/pattern.h"

namespace kestrum {
namespace {

constexpr std::size_t kMostSeen = 100;  // paths that are looked up for a hint

}  // namespace

std::string stored_form(const std::string& typed, bool& anchored) {
  std::string path = typed;
  if (path == "~" || path.starts_with("~/")) {
    const char* home = std::getenv("HOME");
    if (home != nullptr) path = home + path.substr(1);
  }
  if (path == "." || path == ".." || path.starts_with("./") || path.starts_with("../")) {
    path = absolute_path(path);
  }
  anchored = path.starts_with('/');
  if (anchored && !has_wildcard(path)) path = absolute_path(path);
  if (anchored) path.erase(0, 1);
  while (path.size() > 1 && path.ends_with('/')) path.pop_back();
  return path;
}

std::string stored_form_at(ReadSession& session, SetId set, const std::string& typed,
                           bool& anchored) {
  std::string path = stored_form(typed, anchored);
  FolderMap back = reversed(session.folders_here(set));
  const auto* pair = anchored ? pair_for(back, "/" + path) : nullptr;
  bool known_so = pair == nullptr || session.index().find(set, pair->first.substr(1));
  return known_so ? path : mapped(back, "/" + path).substr(1);
}

std::optional<SeenAt> seen_as_typed(ReadSession& session, const std::string& typed) {
  bool anchored = false;
  std::string path = stored_form(typed, anchored);
  auto seen = session.seen_anywhere(path);
  if (seen || anchored) return seen;
  PatternSet pattern({path});
  std::size_t found = 0;
  session.index().each_path(std::nullopt, [&](const std::string& candidate) {
    if (found >= kMostSeen || !pattern.match(candidate)) return;
    ++found;
    auto at = session.seen_anywhere(candidate);
    if (at && (!seen || seen->when < at->when)) seen = at;
  });
  return seen;
}

std::string resolve_path(ReadSession& session, SetId set, const std::string& typed) {
  bool anchored = false;
  std::string path = stored_form_at(session, set, typed, anchored);
  if (path.empty() || session.index().find(set, path)) return path;
  auto below = session.index().state_at(set, path);
  IndexEntry entry;
  if (below.next(entry)) return path;  // a folder above the job's folders
  std::vector<std::string> matches;
  PatternSet pattern({anchored ? "/" + path : path});
  auto cursor = session.index().state_at(set);
  while (cursor.next(entry)) {
    const std::string& candidate = entry.line.entry.path;
    bool covered = !matches.empty() && candidate.starts_with(matches.back() + "/");
    if (!covered && pattern.match(candidate)) matches.push_back(candidate);
  }
  if (matches.size() == 1) return matches[0];
  if (matches.empty()) {
    std::string text = fmt::format("{}: not there on {}", printable(typed),
                                   format_local(session.set(set).started));
    auto seen = seen_as_typed(session, typed);
    if (seen) text += "; last seen " + format_local(seen->when);
    throw Error(ErrorKind::kNoMatch, text,
                seen ? "add " + seen->asked_for
                     : "in all restore points: kestrum trace " + session.job_name() + " " +
                           shell_word(base_name(path)))
        .about_path(typed);
  }
  std::string hint = "such as";
  for (std::size_t i = 0; i < std::min<std::size_t>(3, matches.size()); ++i) {
    hint += " /" + printable(matches[i]);
  }
  throw Error(ErrorKind::kUsage,
              fmt::format("{} matches {} paths", printable(typed), matches.size()), hint)
      .about_path(typed);
}

}  // namespace kestrum
