// The folders of a job, as far as they are known: there, away, new.
#pragma once

#include <string>
#include <vector>

#include "kestrum/plan/tree_diff.h"
#include "kestrum/shelf/ledger_line.h"

namespace kestrum {

struct Roots {
  std::vector<std::string> present;  // to be walked, as they are to be named in messages; some may
                                     // not be there
  LostFolders lost;                  // known, and not to be walked
  std::vector<std::string> fresh;    // match a pattern now and did not before
  std::vector<KnownRoot> known;      // all of them, in path order, for the set's ledger
};

}  // namespace kestrum
