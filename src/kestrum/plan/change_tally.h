// Counts, beside a run, what became of the files that the newest restore point holds.
#pragma once

#include <sys/stat.h>

#include <map>
#include <optional>
#include <string>

#include "kestrum/chain/suspicion.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/noise_count.h"
#include "kestrum/plan/run_plan.h"

namespace kestrum {

class ChangeTally {
 public:
  // `compared` is the set whose state the run is compared with. Where that is not the newest, what
  // differs from it already was so at the newest is no news. Nor is it that `released` folders
  // (absolute) are gone: somebody said so.
  ChangeTally(Index& index, std::optional<SetId> compared, std::vector<std::string> released);

  void known(const IndexEntry& old);
  // A file that was read: whether its content is another than that of `old`.
  void changed(const IndexEntry& old, const IndexEntry& now);
  // A file that was only looked at.
  void changed(const IndexEntry& old, const struct stat& now);
  void gone(const IndexEntry& old);
  // A folder of the job where nothing is left.
  void emptied(const std::string& root) { counts_.emptied.push_back(root); }
  void moved(std::uint64_t files);  // of those gone, what turned up elsewhere

  const ChangeCounts& counts() const { return counts_; }

 private:
  Index& index_;
  std::optional<SetId> newest_;  // where it is not what the run is compared with
  std::vector<std::string> released_;
  std::uint64_t gone_as_told_ = 0;  // in released folders
  ChangeCounts counts_;
};

// Whether the content of an open file looks like noise. False if it cannot be read.
bool begins_like_noise(int fd);

// Why the set is suspect, by what changed since the newest restore point, and by what turned into
// noise since any; nothing if it is not.
std::optional<std::string> suspicion_of(ChangeCounts counts, const RunPlan& plan, Index& index,
                                        NoiseCount& noise, const SuspicionLimits& limits);

}  // namespace kestrum
