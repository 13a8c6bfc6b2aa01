#include "kestrum/select/selection.h"

#include <algorithm>

#include "kestrum/select/litter.h"
#include "kestrum/select/path_order.h"

namespace kestrum {

const char* rule_name(Rule rule) {
  static constexpr std::array<const char*, kRules> kNames = {
      "taken",        "leave_out",      "leave_out_litter",  "only",          "bigger_than",
      "smaller_than", "changed_within", "other_filesystems", "kestrum's own", "socket"};
  return kNames[static_cast<std::size_t>(rule)];
}

Selection::Selection(SelectionRules rules, std::vector<std::pair<dev_t, ino_t>> own_folders)
    : rules_(std::move(rules)),
      own_folders_(std::move(own_folders)),
      leave_out_(rules_.leave_out),
      litter_(rules_.leave_out_litter ? litter_patterns() : std::vector<std::string>{}),
      only_(rules_.only) {}

Rule Selection::by_path_below(std::string_view root, std::string_view path) const {
  if (leave_out_.match_below(root, path)) return Rule::kLeaveOut;
  if (litter_.match_below(root, path)) return Rule::kLitter;
  return Rule::kTaken;
}

Rule Selection::by_way_below(std::string_view root, std::string_view path) const {
  for (std::size_t at = root.size() + 1; at < path.size() && at != 0;) {
    std::size_t end = std::min(path.find('/', at), path.size());
    Rule rule = by_path_below(root, path.substr(0, end));
    if (rule != Rule::kTaken) return rule;
    at = end + 1;
  }
  return Rule::kTaken;
}

bool is_only_about_new(Rule rule) {
  return rule == Rule::kBiggerThan || rule == Rule::kSmallerThan || rule == Rule::kChangedWithin;
}

Rule Selection::by_file(std::string_view path, std::uint64_t size) const {
  if (!only_.takes(path)) return Rule::kOnly;
  if (rules_.bigger_than && size <= *rules_.bigger_than) return Rule::kBiggerThan;
  if (rules_.smaller_than && size >= *rules_.smaller_than) return Rule::kSmallerThan;
  return Rule::kTaken;
}

bool Selection::too_old(FileTime mtime, Nanos now) const {
  return rules_.changed_within && mtime < FileTime(now - *rules_.changed_within);
}

bool Selection::is_own(dev_t device, ino_t inode) const {
  return std::find(own_folders_.begin(), own_folders_.end(), std::pair(device, inode)) !=
         own_folders_.end();
}

std::vector<std::string> in_path_order(std::vector<std::string> folders) {
  std::sort(folders.begin(), folders.end(),
            [](const std::string& a, const std::string& b) { return compare_paths(a, b) < 0; });
  folders.erase(std::unique(folders.begin(), folders.end()), folders.end());
  return folders;
}

}  // namespace kestrum
