// What a set that is being made does not hold, though an older restore point does: docs/format.md,
// "lacking". As long as it names a set, the chain of that set is not pruned.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/machine/index.h"
#include "kestrum/plan/roots.h"

namespace kestrum {

// Paths (relative to "/") whose state could not be told, or whose content could not be read: each
// stands for itself and all below it. Beyond a number of them folders stand for what they hold,
// which is told too much rather than too little.
class UnreadPaths {
 public:
  void add(const std::string& path);
  const std::vector<std::string>& paths() const { return paths_; }
  // A folder where a disk is mounted now, relative to "/".
  void add_mount(const std::string& path) { mounts_.push_back(path); }
  // A folder that a rule leaves out now. Only what has to do with one of `lacking` is noted.
  void add_left_out(const std::string& path, const std::vector<Lacking>& lacking);
  // Whether the job still chooses what lies at a path, as far as was noted.
  bool is_chosen(const std::string& path) const;
  // On which disk, as LedgerEntry has it, what lies at `path` would be seen now.
  std::size_t mounts() const { return mounts_.size(); }
  unsigned disk_at(const std::string& path) const;

 private:
  void fold();
  std::vector<std::string> paths_, mounts_, left_out_;
};

// What is held against the new set.
struct OwedContent {
  // What the set that it follows, or takes the place of, lacks. Nothing: not known.
  std::optional<std::vector<Lacking>> lacking = std::vector<Lacking>{};
  struct Compared {
    SetId set;                   // what it knew and could not be read now is lacking
    std::optional<SetId> since;  // but for what this one, its ancestor, knew already
    bool by_path = false;        // the new set is compared with it, path by path
  };
  std::vector<Compared> compared;
};

// What the owed content and what could not be read make of the new set's list. Nothing: not known.
// `roots` are those of the job now, `tell` is called with each place where a disk hides,
// or held, what is lacking still, relative to "/", and whether a disk is mounted there now.
std::optional<std::vector<Lacking>> lacking_now(
    Index& index, const OwedContent& owed, const UnreadPaths& unread, const Roots& roots,
    const std::function<void(const std::string&, bool)>& tell);

}  // namespace kestrum
