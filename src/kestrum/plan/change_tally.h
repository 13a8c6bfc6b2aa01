// Counts, beside a run, what became of the files that the newest restore point holds.
#pragma once

#include <map>
#include <optional>
#include <string>

#include "kestrum/chain/suspicion.h"
#include "kestrum/machine/index.h"

namespace kestrum {

class ChangeTally {
 public:
  // `compared` is the set whose state the run is compared with. Where that is not the newest, what
  // differs from it already was so at the newest is no news.
  ChangeTally(Index& index, std::optional<SetId> compared);

  void known(const IndexEntry& old);
  // A file whose content is another than that of `old`; `fd` is open on it.
  void changed(const IndexEntry& old, const IndexEntry& now, int fd);
  void gone(const IndexEntry& old);
  // A folder of the job where nothing is left.
  void emptied(const std::string& root) { counts_.emptied.push_back(root); }
  void moved(std::uint64_t files);  // of those gone, what turned up elsewhere

  const ChangeCounts& counts() const { return counts_; }

 private:
  Index& index_;
  std::optional<SetId> newest_;  // where it is not what the run is compared with
  ChangeCounts counts_;
};

}  // namespace kestrum
