// The values that go into the index and come out of it.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/archive/set_writer.h"
#include "kestrum/shelf/damaged_content.h"
#include "kestrum/shelf/ledger.h"

namespace kestrum {

// A row of the journal, or the state of a path at a restore point.
struct IndexEntry {
  LedgerEntry line;
  std::uint64_t inode = 0;
  bool unsure = false;      // changed so shortly before it was read that it is digested next time
  bool index_only = false;  // journal: not a line of the ledger; only this index learns it
  bool moved = false;       // journal: known content under a path that did not hold it
  // Journal: it changed while it was read, and is to be stored once more; it leads no duplicates.
  bool unsettled = false;
  // Journal: of content that lies under another path of this set, the tar entry that links to it.
  std::optional<std::uint64_t> link_offset;
  std::int64_t version = 0;  // row id, for state; 0 in the journal
};

// Bytes; the sizes of larger files are noted, so that what has the size of none is not read twice.
inline constexpr std::uint64_t kNotedAbove = 4 << 20;

// Of a file with several names, the one that the walk came by first.
struct FirstName {
  std::string path;
  std::uint64_t group = 0;  // of all its names
};

struct IndexedSet {
  SetId set;
  SetKind kind = SetKind::kFull;
  std::optional<SetId> based_on;
  Nanos started = 0;
  std::vector<KnownRoot> roots;
  std::optional<std::vector<Lacking>> lacking;  // nothing: not known
  Digest seal_digest{};
  Digest ledger_digest{};
  std::uint64_t lines = 0;  // of its ledger, without the head
  std::string suspect_why;  // in words; empty if it is not suspect
};

// The folders of the job whose state a set holds, also where they were away when it was made.
inline std::vector<std::string> root_paths(const IndexedSet& set) {
  std::vector<std::string> paths;
  for (const KnownRoot& root : set.roots) paths.push_back(root.path);
  return paths;
}

// A set that was begun and has no seal yet.
struct BegunSet {
  SetKind kind = SetKind::kFull;
  std::optional<SetId> based_on;
  std::string folder;   // relative to the shelf
  Nanos begun = 0;      // when the first run of it started
  std::string packing;  // how its parts are packed, to be compared only
  std::vector<ClosedPart> parts;
};

// A stretch of a path's history.
struct PathVersion {
  IndexEntry entry;
  SetId first;                         // the set it appeared in
  std::optional<SetId> until;          // the first set where it no longer holds
  EntryType ended = EntryType::kFile;  // kGone, kLeftOut; kFile: replaced by another version
};

}  // namespace kestrum
