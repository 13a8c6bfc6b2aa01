// Checking that what lies on a shelf is what was put there.
#pragma once

#include <optional>
#include <span>
#include <string>
#include <vector>

#include "kestrum/engine/observer.h"
#include "kestrum/engine/open_shelf.h"

namespace kestrum {

struct VerifyRequest {
  std::optional<SetId> only;  // this set and those it is based on; nothing: every set
  bool contents = false;      // decrypt, decompress, parse, compare each file's digest
  StopRequest stop;
};

struct Damage {
  std::optional<SetId> set;  // nothing: the shelf's own files
  std::string file;          // relative to the set's folder, or to the shelf
  std::string reason;
  std::vector<std::string> paths;  // absolute; the files that are hurt (with `contents`)
};

struct VerifyResult {
  std::uint64_t sets = 0, parts = 0, files = 0, bytes = 0;  // checked; bytes of the shelf's files
  std::vector<Damage> damage;
  std::vector<SetId> restorable;  // restore points whose whole chain is sound
};

// Without `contents` no secret is needed: every part, ledger and signature is checked against its
// seal, and the seals against each other. With it, `identities` open the sets.
VerifyResult verify_shelf(OpenShelf& open, std::span<const Identity> identities,
                          const VerifyRequest& request, Observer& observer);

}  // namespace kestrum
