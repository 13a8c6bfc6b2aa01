// A row of the journal as it is packed: many of them, one behind the other, are one row of SQLite,
// which takes far less time to be written than each by itself.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "kestrum/base/file_time.h"

namespace kestrum {

// What the columns of the table `journal` hold (kRowColumns). A digest, extra or ranges that are
// empty are NULL there.
struct JournalRow {
  // The head, which some readers need no more than.
  std::string_view key;
  std::uint8_t type = 0;
  std::uint64_t flags = 0;
  std::uint8_t has = 0;   // of the values that not every row has
  std::string_view rest;  // as it is packed

  std::uint64_t size = 0;
  FileTime mtime, ctime;
  std::uint64_t inode = 0, mode = 0, owner = 0;
  std::string_view digest, extra;
  std::uint64_t link_group = 0;
  std::optional<std::uint64_t> tar_offset, in_set, link_offset;
  std::optional<std::string_view> in_key;
  std::string_view ranges;

  bool has_in_key() const;
  bool has_ranges() const;
};

void pack_row(std::string& out, const JournalRow& row);
// Takes the head of a row, and what is packed of the rest, from the front of `packed`, into which
// its views point. False if there is none that is whole.
bool unpack_head(std::string_view& packed, JournalRow& row);
// All but the head of a row that has its head. False if it is not whole.
bool unpack_rest(JournalRow& row);

}  // namespace kestrum
