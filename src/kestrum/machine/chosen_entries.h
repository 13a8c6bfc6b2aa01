// Entries of one restore point, chosen one by one or by folder, kept in a temporary table of the
// index: there may be millions.
#pragma once

#include <cstdint>
#include <functional>
#include <initializer_list>
#include <string>
#include <vector>

#include "kestrum/machine/index.h"

namespace kestrum {

// One at a time on an index; a new one empties the table. Paths are relative to "/".
class ChosenEntries {
 public:
  ChosenEntries(Index& index, SetId set);

  SetId set() const { return set_; }
  // The entry at `path` and all below it; "" chooses everything.
  void add_below(const std::string& path);
  // A version of one path, by the row that the index gave.
  void add(const std::string& path, std::int64_t version);
  bool has(const std::string& path);

  std::uint64_t count();
  struct Totals {
    std::uint64_t files = 0;  // what is not a folder
    std::uint64_t bytes = 0;  // of the files' content
  };
  Totals totals();
  // Calls `visit` with each path, in path order, and whether it is a folder.
  void each_path(const std::function<void(const std::string& path, bool folder)>& visit);

  // Says in which sets the content of the files lies, for kByContent.
  void locate(const std::vector<std::int64_t>& ancestors);
  // Remembers an entry for kMarkedDeepestFirst.
  void mark(const std::string& path);

  // kByContent: as it lies in the sets, the names of one file behind each other.
  enum class Order { kByPath, kByContent, kMarkedDeepestFirst };
  // Calls `visit` for the entries of some types.
  void each(std::initializer_list<EntryType> types, Order order,
            const std::function<void(const IndexEntry&)>& visit);

 private:
  std::uint64_t number(const char* query);

  Index& index_;
  SQLite::Database& database_;
  SetId set_;
  std::string place_;  // joins a version `v` to where its content lies, `l`
};

}  // namespace kestrum
