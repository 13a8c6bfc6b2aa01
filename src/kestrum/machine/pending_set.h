// The set that is about to be sealed: what its index has to know to take it in, in a file beside
// the index, from right before the seal until it was taken in or dropped.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/json.h"
#include "kestrum/machine/index_entry.h"

namespace kestrum {

// The files of an index, behind the name of the first.
inline constexpr const char* kPendingSuffix = "-pending";
inline constexpr const char* kIndexFiles[] = {"", "-wal", "-shm", kPendingSuffix};

// Parts of an IndexedSet as JSON. What is malformed throws Error(kDamage), or is left out.
Json roots_json(const std::vector<KnownRoot>& roots);
std::vector<KnownRoot> parse_roots(const Json& roots);
Json lacking_json(const std::optional<std::vector<Lacking>>& lacking);  // null: not known
std::optional<std::vector<Lacking>> parse_lacking(const Json& lacking);

struct PendingSet {
  IndexedSet set;       // its seal_digest is not known yet
  std::string journal;  // the mark of the index's journal that holds its lines
};

// With an empty path it is kept in memory only.
class PendingFile {
 public:
  explicit PendingFile(std::string path) : path_(std::move(path)) {}

  // What is not one counts as none: the index then learns of a set from its ledger. Throws Error if
  // the file is there and cannot be read.
  std::optional<PendingSet> read() const;
  // Makes it last. Throws Error; then there is none.
  void write(const PendingSet& set);
  void drop();

 private:
  std::string path_;
  std::optional<PendingSet> in_memory_;
};

}  // namespace kestrum
