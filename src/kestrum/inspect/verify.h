// Checking that what lies on a shelf is what was put there.
#pragma once

#include <map>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/observer.h"
#include "kestrum/inspect/damage.h"

namespace kestrum {

struct VerifyRequest {
  std::optional<SetId> only;  // this set and those it is based on; nothing: every set
  bool by_folder = false;     // the shelf is what somebody named: it may be a copy
  bool contents = false;      // decrypt, decompress, parse, compare each file's digest
  // Why the shelf is known to be an older state of itself; see access/other_disks.h.
  std::optional<std::string> set_back;
  StopRequest stop;
};

struct VerifyResult {
  std::uint64_t sets = 0, parts = 0, files = 0, bytes = 0;  // checked; bytes of the shelf's files
  std::vector<Damage> damage;
  std::vector<std::string> mended;            // copies of ledgers, in words
  std::map<std::string, std::uint64_t> away;  // parts that lie on disks which are not plugged in
  std::vector<std::string> newer;             // what a later version wrote, in words: not damaged
  std::vector<SetId> restorable;              // restore points that are whole
  std::map<SetId, std::uint64_t> lost_at;     // restore points that lack files, and how many
  bool known_here = false;  // this machine's index knows what a damaged ledger can no longer tell
};

// Without `contents` no secret is needed: every part, ledger and signature is checked against its
// seal, and the seals against each other; every file that reaches into a damaged part counts as
// damaged, as far as this machine's index knows them. With it, `identities` open the sets, and what
// is damaged is found by reading. What is found is remembered in the machine's state, unless it is
// a copy of the shelf somewhere else.
VerifyResult verify_shelf(OpenShelf& open, std::span<const Identity> identities,
                          const VerifyRequest& request, Observer& observer);

}  // namespace kestrum
