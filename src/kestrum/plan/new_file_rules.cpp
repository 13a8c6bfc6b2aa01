#include "kestrum/plan/new_file_rules.h"

namespace kestrum {

Rule NewFileRules::refuses(const WalkEvent& event, const IndexEntry* old) const {
  if (plan_.blind || old != nullptr) return Rule::kTaken;
  FileTime mtime(event.st.st_mtim);
  Rule rule = event.only_if_new() ? event.rule : Rule::kTaken;
  if (rule == Rule::kTaken && selection_.too_old(mtime, now_)) rule = Rule::kChangedWithin;
  if (rule == Rule::kTaken) return rule;
  bool held =
      plan_.compared_with &&
      index_.holds_file(event.st.st_ino, static_cast<std::uint64_t>(event.st.st_size), mtime);
  return held ? Rule::kTaken : rule;
}

}  // namespace kestrum
