// What a restore is to give back: the chosen entries of one restore point. They are kept in a table
// of the index's connection, since there may be millions.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/read_session.h"

namespace kestrum {

class RestoreSelection {
 public:
  // An empty choice of entries at `set`.
  RestoreSelection(ReadSession& session, SetId set);

  SetId set() const { return set_; }
  // Adds what a PATH or pattern means, as typed; empty: everything. Returns how many entries it
  // added: none if others hold it already. Throws Error(kNoMatch) if there is nothing of that name.
  std::uint64_t add(const std::string& typed);
  // Adds the version of one path.
  void add_version(const std::string& path, std::int64_t version);

  bool has(const std::string& path);
  // The file that a hard link of this restore point is another name of. Throws Error(kDamage).
  IndexEntry linked_file(const Entry& hardlink);
  // Of the chosen entries: what is not a folder, and the bytes of all files.
  std::uint64_t files();
  std::uint64_t bytes();
  // The deepest folder that holds all of them, relative to "/".
  std::string shared_folder();
  // Finds where the content of each file lies, for reading in order.
  void locate(const std::vector<std::int64_t>& ancestors);

  // Remembers an entry for kMarkedDeepestFirst.
  void mark(const std::string& path);

  enum class Order { kByPath, kByContent, kMarkedDeepestFirst };
  // Calls `visit` for the entries of some types.
  void each(std::initializer_list<EntryType> types, Order order,
            const std::function<void(const IndexEntry&)>& visit);

 private:
  std::uint64_t count();
  std::uint64_t number(const char* query);
  Error nothing_matched(const std::string& typed, const std::string& path, bool anchored);

  ReadSession& session_;
  Index& index_;
  SetId set_;
};

}  // namespace kestrum
