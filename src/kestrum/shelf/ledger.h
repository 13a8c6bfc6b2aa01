// A set's ledger: every path of the set with its metadata, its content digest, and where its
// content lies. JSON Lines in path order; line 1 is the header.
//
// Where the content of a "file" line lies:
//   tar_offset                     in this set's tar, under the line's own path
//   tar_offset, in_path            in this set's tar, under in_path (this entry is a link there)
//   tar_offset, in_path, in_set    in the tar of in_set, an ancestor, under in_path
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/archive/entry.h"
#include "kestrum/archive/packed_file.h"
#include "kestrum/chain/set_id.h"

namespace kestrum {

struct LedgerEntry {
  Entry entry;
  std::optional<Digest> digest;             // of a file's content
  std::optional<std::uint64_t> tar_offset;  // of the first header of the entry that holds it
  std::optional<SetId> in_set;
  std::optional<std::string> in_path;
  bool mount = false;  // a folder that was another filesystem than the one above
};

struct LedgerHeader {
  std::string shelf;
  SetId set;
  SetKind kind = SetKind::kFull;
  std::optional<SetId> based_on;
  std::vector<std::string> roots;  // absolute, after patterns were expanded
  Nanos begun = 0, started = 0;
};

std::string ledger_line(const LedgerEntry& entry);  // with the newline
// Throws Error(kDamage) naming `what` for anything malformed, also a path that could leave the
// folder it is restored to.
LedgerEntry parse_ledger_line(std::string_view line, const std::string& what);

// Whether `path` is one that an entry can have: relative, no empty, "." or ".." component, no NUL.
bool is_safe_path(std::string_view path);

class LedgerWriter {
 public:
  LedgerWriter(Place& place, std::string path, const Packing& packing, const LedgerHeader& header);
  void add(const LedgerEntry& entry);  // in path order
  void close();
  const PackedFileWriter& file() const { return file_; }

 private:
  void put_line(std::string_view line);
  void flush();
  PackedFileWriter file_;
  bool compressed_;
  FrameCompressor compressor_;
  std::string pending_;
  Bytes frame_;
};

class LedgerReader {
 public:
  // `content` is the ledger's text.
  LedgerReader(std::unique_ptr<ByteSource> content, std::string what);

  const LedgerHeader& header() const { return header_; }
  // The next entry; false at the end. Throws Error(kDamage) also if the order is wrong.
  bool next(LedgerEntry& entry);

 private:
  bool next_line(std::string& line);
  std::unique_ptr<ByteSource> content_;
  std::string what_;
  LedgerHeader header_;
  std::uint64_t at_ = 0;
  std::string buffer_;
  std::size_t buffer_at_ = 0;
  std::optional<std::string> previous_;
};

}  // namespace kestrum
