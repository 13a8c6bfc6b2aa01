#include "kestrum/restore/restore_selection.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/access/resolve_path.h"
#include "kestrum/base/file.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/restore/target_folder.h"
#include "kestrum/select/pattern.h"

namespace kestrum {
namespace {

std::string shared_part(std::string a, const std::string& b) {
  while (!a.empty() && !is_within(b, a)) a = folder_above(a);
  return a;
}

}  // namespace

RestoreSelection::RestoreSelection(ReadSession& session, SetId set)
    : session_(session), index_(session.index()), entries_(session.index(), set) {}

std::uint64_t RestoreSelection::add(const std::string& typed) {
  bool anchored = false;
  std::string path = stored_form_at(session_, set(), typed, anchored);
  std::uint64_t before = entries_.count();
  IndexEntry first;
  bool literal =
      path.empty() || index_.find(set(), path) || index_.state_at(set(), path).next(first);
  const std::vector<std::string> roots = root_paths(session_.set(set()));
  // Folders above those of the job are known for their owners and modes alone.
  auto leads_on = [&](const std::string& root) {
    return is_within(root.substr(1), path) && root.size() > path.size() + 1;
  };
  if (literal && !is_within_one("/" + path, roots) &&
      std::any_of(roots.begin(), roots.end(), leads_on)) {
    for (const std::string& root : roots) {
      if (leads_on(root)) entries_.add_below(root.substr(1));
    }
  } else if (literal) {
    entries_.add_below(path);
  } else {
    PatternSet pattern({anchored ? "/" + path : path});
    auto cursor = index_.state_at(set());
    IndexEntry entry;
    while (cursor.next(entry)) {
      const Entry& e = entry.line.entry;
      bool passage = e.type == EntryType::kFolder && !is_within_one("/" + e.path, roots);
      if (!passage && pattern.match(e.path)) entries_.add(e.path, entry.version);
    }
  }
  std::uint64_t matched = entries_.count() - before;
  if (matched == 0 && !entries_.has(path)) throw nothing_matched(typed);
  return matched;
}

std::string RestoreSelection::shared_folder() {
  std::optional<std::string> shared, covered;  // covered: by a chosen folder above
  entries_.each_path([&](const std::string& path, bool folder) {
    if (covered && is_within(path, *covered)) return;
    if (folder) covered = path;
    std::string anchor = folder ? path : folder_above(path);
    shared = shared ? shared_part(*shared, anchor) : anchor;
  });
  return shared.value_or("");
}

Error RestoreSelection::nothing_matched(const std::string& typed) {
  std::string text = fmt::format("{}: not there on {}", printable(typed),
                                 format_local(session_.set(set()).started));
  auto seen = seen_as_typed(session_, typed);
  if (!seen) {
    return Error(ErrorKind::kNoMatch, text,
                 "in all restore points: kestrum trace " + session_.job_name() + " " +
                     shell_word(base_name(typed)))
        .about_path(typed);
  }
  return Error(ErrorKind::kNoMatch, fmt::format("{}; last seen {}", text, format_local(seen->when)),
               "add --point last-seen")
      .about_path(typed);
}

}  // namespace kestrum
