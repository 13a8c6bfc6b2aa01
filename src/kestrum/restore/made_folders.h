// The folders that a restore makes get their owner, mode and time at its end. A journal of them
// tells the next restore which were left half done by one that was killed.
#pragma once

#include <set>
#include <string>
#include <vector>

#include "kestrum/base/file.h"

namespace kestrum {

class MadeFolders {
 public:
  // `folder` holds the journals, one a process; empty, or where it cannot be written: nothing is
  // noted. A restore does not fail for that.
  explicit MadeFolders(std::string folder);

  // Right before `path` (absolute) is made.
  void note(const std::string& path);
  bool knows_unfinished() const { return !unfinished_.empty(); }
  // Whether a restore that did not finish made it; it is this one's to finish from here on.
  bool take_over(const std::string& path);
  // All that was noted or taken over is finished.
  void finish();

 private:
  std::string folder_, own_;
  Fd file_;
  std::vector<std::string> journals_;  // of processes that are gone
  std::set<std::string> unfinished_;   // what they noted
};

}  // namespace kestrum
