// The lines of a set's ledger, one at a time: docs/format.md, "Ledger".
//
// Where the content of a "file" line lies ("at"):
//   offset             in this set's tar, under the line's own path
//   offset, path       in this set's tar, under that path (this entry is a link there)
//   offset, path, set  in the tar of `set`, an ancestor, under `path`
// or piece by piece ("ranges").
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "kestrum/archive/entry.h"
#include "kestrum/archive/stretches.h"
#include "kestrum/chain/next_kind.h"
#include "kestrum/chain/set_id.h"
#include "kestrum/crypto/digest.h"
#include "kestrum/shelf/content_range.h"
#include "kestrum/shelf/counts.h"

namespace kestrum {

struct LedgerEntry {
  Entry entry;
  std::optional<Digest> digest;             // of a file's content
  std::optional<std::uint64_t> tar_offset;  // of the first header of the entry that holds it
  std::optional<SetId> in_set;
  std::optional<std::string> in_path;
  std::vector<ContentRange> ranges;  // instead of these three; they add up to the size
  bool mount = false;                // a folder that was another filesystem than the one above
  // On which disk it was seen: the number of components of the path where that is mounted, 0 for
  // "/".
  std::uint16_t disk = 0;
  bool noise = false;  // a file whose content looks encrypted
};

// An entry of the set's tar that does not count.
struct DeadEntry {
  enum class Why : std::uint8_t {
    kReplaced,   // a later entry, or none, stands for what became of it
    kReadError,  // its file could not be read to the end
    kChanged,    // its file changed while it was read, and was stored once more
    kCut,        // a run was cut in it, and its file could not be gone on with
  };
  std::uint64_t tar_offset = 0;  // of its first header
  std::string path;              // relative to "/"
  Why why = Why::kReplaced;
};

// A folder of the job that some restore point had, and no edit of the job took away.
struct KnownRoot {
  std::string path;     // absolute
  bool absent = false;  // not there when the set was made
  bool operator==(const KnownRoot&) const = default;
};

// What a chain does not hold and an older one does.
struct Lacking {
  std::string path;  // relative to "/": the topmost folder that could not be read, or one file
  SetId set;         // the newest that knew it
  bool operator==(const Lacking&) const = default;
};

struct LedgerHead {
  std::string shelf;
  SetId set;
  SetKind kind = SetKind::kFull;
  std::optional<SetId> based_on;
  std::vector<KnownRoot> roots;  // in path order
  // Of a full set, and of what follows it until it is made good. Nothing: the set was made without
  // knowing what was there before.
  std::optional<std::vector<Lacking>> lacking;
  Nanos begun = 0, started = 0;
  std::uint64_t number = 0;   // of the set's seal
  std::string host, program;  // the PC, and the version that made it
  bool ranges = false;        // it has lines with ranges, or lists of stretches
};

struct LedgerFoot {
  std::uint64_t lines = 0, dead = 0;  // how many of each there are
  FileCounts files;
  ByteCounts bytes;
  std::string suspect_why;  // in words; empty if it is not
  std::uint64_t lists = 0;  // how many of them there are
};

// All with the newline. Parsing throws Error(kDamage) naming `what` for anything malformed, also a
// path that could leave the folder it is restored to, and Error::newer() for what a later version
// must have written.
std::string ledger_head_line(const LedgerHead& head);
LedgerHead parse_ledger_head(std::string_view line, const std::string& what);
std::string ledger_line(const LedgerEntry& entry);
std::string stretches_line(const StretchList& list);
std::string dead_line(const DeadEntry& entry);
std::string ledger_foot_line(const LedgerFoot& foot);

// A line behind the head.
struct LedgerLine {
  enum class Kind { kEntry, kStretches, kDead, kFoot } kind = Kind::kEntry;
  LedgerEntry entry;
  StretchList list;
  DeadEntry dead;
  LedgerFoot foot;
};
void parse_ledger_line(std::string_view text, const std::string& what, LedgerLine& line);

// Whether `path` is one that an entry can have: relative, no empty, "." or ".." component, no NUL.
bool is_safe_path(std::string_view path);

}  // namespace kestrum
