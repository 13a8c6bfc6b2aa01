// Counts, over all sets that the index knows, what turned into noise since: what malware does that
// takes its time.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/chain/suspicion.h"
#include "kestrum/machine/index.h"

namespace kestrum {

// What the files are now: the journal of the set being written, or what is expected of it; paths
// without a row are what they were at the base. One at a time on an index.
class NoiseCount {
 public:
  enum class Source { kJournal, kExpected };
  // With kExpected, forgets what was expected before.
  NoiseCount(Index& index, Source source, std::optional<SetId> base);

  // What is expected of a path: a file, noise or not, or that it is gone.
  void expect(const std::string& path, EntryType type, bool noise);

  // For each set from `since` on (nothing: each), in order: how many files that were not noise
  // there are noise now, or gone while their folder has got a noisy file instead, one for one; and
  // how many were not noise there. Sets of which nothing turned are left out.
  std::vector<NoiseShare> shares(std::optional<SetId> since);

 private:
  Index& index_;
  SQLite::Database& database_;
  std::optional<SQLite::Statement> expect_;
  std::vector<IndexedSet> known_;
  bool asks_journal_;
  std::optional<SetId> base_;
};

}  // namespace kestrum
