// What lies in a set's tar stream where it cannot be read back.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/chain/set_id.h"
#include "kestrum/shelf/content_range.h"
#include "kestrum/shelf/ledger_line.h"
#include "kestrum/shelf/seal.h"

namespace kestrum {

// Where content lies: the set, the offset of the tar entry, and that entry's path. Or piece by
// piece: then the set and the path of the line that says so, and no offset.
struct ContentLocation {
  SetId set;
  std::uint64_t tar_offset = 0;
  std::string path;
  std::vector<ContentRange> ranges;  // each with its set

  // Whether anything of it lies in the tar of a set.
  bool lies_in(SetId of) const;
};

// Where the content of a file lies by its line in the ledger of `set`.
ContentLocation location_by(const LedgerEntry& line, SetId set);

class DamagedContent {
 public:
  // The part of the stream that lies in part number `part`, from 0, of a set.
  void add(const Seal& seal, std::size_t part);
  bool empty() const { return spans_.empty(); }
  // The first of those, by the order of add(), that a file of `size` bytes at this place reaches
  // into. Its headers are reckoned generously: what ends shortly before one does too.
  std::optional<std::size_t> reached_by(const ContentLocation& location, std::uint64_t size) const;
  // The same of one piece of content, which says its set.
  std::optional<std::size_t> reached_by(const ContentRange& range) const;

 private:
  struct Span {
    SetId set;
    std::uint64_t from = 0, to = 0;  // offsets in the stream
  };
  std::vector<Span> spans_;
};

}  // namespace kestrum
