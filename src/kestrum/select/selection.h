// Which paths a job takes.
#pragma once

#include <sys/types.h>

#include <array>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "kestrum/base/clock.h"
#include "kestrum/base/file_time.h"
#include "kestrum/select/only.h"
#include "kestrum/select/pattern.h"

namespace kestrum {

struct SelectionRules {
  std::vector<std::string> leave_out;
  bool leave_out_litter = true;
  std::vector<std::string> only;                           // categories and patterns
  std::optional<std::uint64_t> bigger_than, smaller_than;  // bytes
  std::optional<Nanos> changed_within;
  bool other_filesystems = false;
};

// Why a path is not taken.
enum class Rule {
  kTaken,
  kLeaveOut,
  kLitter,
  kOnly,
  kBiggerThan,
  kSmallerThan,
  kChangedWithin,
  kOtherFilesystem,
  kOwn,     // the shelf and Kestrum's own state
  kSocket,  // cannot be copied
};
inline constexpr std::size_t kRules = 10;
// The job key that stands for the rule: "leave_out", "leave_out_litter", ...
const char* rule_name(Rule rule);

// Const calls may come from several threads.
class Selection {
 public:
  // `own_folders` are (device, inode) of folders that are never taken. Throws Error(kUsage) naming
  // an unknown category or an unusable pattern.
  Selection(SelectionRules rules, std::vector<std::pair<dev_t, ino_t>> own_folders);

  const SelectionRules& rules() const { return rules_; }
  // What the path alone decides of what a walk comes by on its way down from `root` (both relative
  // to "/"), which is taken whatever its own path says.
  Rule by_path_below(std::string_view root, std::string_view path) const;
  // The same of a path that was not walked to: every folder on the way from `root` is asked about.
  Rule by_way_below(std::string_view root, std::string_view path) const;
  // What name and size of a regular file decide.
  Rule by_file(std::string_view path, std::uint64_t size) const;
  // Whether a file that the chain does not hold yet is old enough to be left out.
  bool too_old(FileTime mtime, Nanos now) const;
  bool is_own(dev_t device, ino_t inode) const;

 private:
  SelectionRules rules_;
  std::vector<std::pair<dev_t, ino_t>> own_folders_;
  PatternSet leave_out_, litter_;
  Only only_;
};

// Whether a rule is only about files that the chain does not hold yet.
bool is_only_about_new(Rule rule);

// Each folder once, in path order.
std::vector<std::string> in_path_order(std::vector<std::string> folders);

}  // namespace kestrum
