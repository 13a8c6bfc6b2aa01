// seal.json: the small signed file that makes a set whole. It names no file of the user's.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/archive/set_writer.h"
#include "kestrum/chain/next_kind.h"
#include "kestrum/shelf/counts.h"

namespace kestrum {

struct Seal {
  std::string shelf;  // UUID
  SetId set;
  SetKind kind = SetKind::kFull;
  std::optional<SetId> based_on;
  Nanos begun = 0;    // when the first attempt at this set started
  Nanos started = 0;  // when the run that finished it started: the restore point
  Nanos finished = 0;
  std::string host;
  std::string program;   // version
  std::string outcome;   // "done" or "done with warnings"
  std::string verified;  // "parts", "contents" or "no"
  bool suspect = false;
  std::string suspect_why;  // in words; empty if it is not
  bool lacking = false;     // an older chain holds what this set does not, or nobody knows
  bool encrypted = true;
  bool compressed = true;
  FileCounts files;
  ByteCounts bytes;
  std::vector<PartInfo> parts;
  std::string ledger_name;
  std::string ledger_copy;  // the same bytes under another name
  std::uint64_t ledger_bytes = 0;
  Digest ledger_digest{};
  std::optional<Digest> base_seal;      // of the set it is based on
  std::optional<Digest> previous_seal;  // of the newest seal before it, of any chain

  SetFacts facts() const;
  // Of the two names of the ledger the other one.
  const std::string& other_ledger(const std::string& name) const {
    return name == ledger_name ? ledger_copy : ledger_name;
  }
  std::string to_json() const;
  // Throws Error(kDamage) naming `what`.
  static Seal parse(std::string_view text, const std::string& what);
};

}  // namespace kestrum
