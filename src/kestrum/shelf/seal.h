// seal.json: the small signed file that makes a set whole. It names no file of the user's.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/archive/set_writer.h"
#include "kestrum/chain/next_kind.h"
#include "kestrum/crypto/age_keys.h"

namespace kestrum {

// All that a seal tells of what is in the set; the counts by kind stand in the ledger.
struct SealTotals {
  std::uint64_t files = 0;   // at the restore point
  std::uint64_t bytes = 0;   // sizes of those
  std::uint64_t copied = 0;  // content that went into the set
  std::uint64_t stored = 0;  // parts, ledgers, blocks and seal on the shelf
};

struct Seal {
  std::string shelf;  // UUID
  SetId set;
  SetKind kind = SetKind::kFull;
  std::optional<SetId> based_on;
  std::uint64_t number = 0;            // of this seal on its shelf, from 1; never used again
  std::optional<Recipient> recipient;  // nothing: not encrypted
  Nanos begun = 0;                     // when the first attempt at this set started
  Nanos started = 0;                   // when the run that finished it started: the restore point
  Nanos finished = 0;
  std::string outcome;   // "done" or "done with warnings"
  std::string verified;  // "parts", "sizes", "contents" or "no"
  bool suspect = false;  // why, the ledger says
  bool lacking = false;  // an older chain holds what this set does not, or nobody knows
  bool compressed = true;
  bool ranges = false;  // some of its files lie piece by piece, or are listed so
  SealTotals totals;
  // Digests of files are those of their digests block by block (archive/block_digests.h).
  std::vector<PartInfo> parts;
  // What the disks are called that the parts lie on, by number; empty if they all lie on one.
  std::map<std::uint64_t, std::string> disks;
  std::string ledger_name;
  std::string ledger_copy;  // the same bytes under another name
  std::uint64_t ledger_bytes = 0;
  Digest ledger_digest{};
  std::uint64_t blocks_bytes = 0;  // of the file "blocks"
  Digest blocks_digest{};
  std::optional<Digest> base_seal;  // of the set it is based on
  // Of the seal whose number is one less, of any chain; nothing where that could not be read.
  std::optional<Digest> previous_seal;

  // All that lies in the set's folder beside the seal.
  struct File {
    std::string name;
    std::uint64_t bytes = 0;
    Digest digest{};
    bool is_part = false;
  };
  std::vector<File> files() const;
  // Bytes that "blocks" has for these parts and this ledger.
  std::uint64_t blocks_bytes_needed() const;
  bool encrypted() const { return recipient.has_value(); }
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
