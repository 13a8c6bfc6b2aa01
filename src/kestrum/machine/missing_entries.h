// Entries that restore points hold and the disk does not, kept in a temporary table of the index.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "kestrum/machine/index.h"

namespace kestrum {

// One at a time on an index; a new one empties the tables. Paths are relative to "/".
class MissingEntries {
 public:
  explicit MissingEntries(Index& index);

  // A version that `set` is the newest restore point to hold. It takes the place of another version
  // of the same path.
  void put(const PathVersion& version, SetId set);
  void drop(const std::string& path);
  std::uint64_t count();
  // The restore points that they come from, newest first.
  std::vector<SetId> sets();
  // Calls `visit` with the path and version row of those that come from `set`.
  void each(SetId set, const std::function<void(const std::string&, std::int64_t)>& visit);

  // A file that is on the disk. It is kept only if something missing has its size and time.
  void put_candidate(const std::string& path, std::uint64_t size, FileTime mtime);
  // Calls `visit` with what is missing, in path order, its digest, and each candidate of the same
  // size and time. If it answers true, the candidate has the same content: the next path follows.
  void each_candidate(const std::function<bool(const std::string& path, const Digest& digest,
                                               const std::string& candidate)>& visit);

 private:
  SQLite::Database& database_;
  SQLite::Statement put_, put_candidate_;
};

}  // namespace kestrum
