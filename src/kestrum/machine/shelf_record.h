// What this PC remembers of a shelf: the file pin.json of its state folder. A shelf that says
// otherwise was changed by somebody else.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "kestrum/base/nanos.h"
#include "kestrum/chain/set_id.h"
#include "kestrum/crypto/age_keys.h"
#include "kestrum/crypto/digest.h"
#include "kestrum/crypto/signature.h"
#include "kestrum/shelf/head.h"
#include "kestrum/shelf/label.h"

namespace kestrum {

// The last drill of a shelf, as `status` shows it.
struct DrillRecord {
  Nanos when = 0;  // by the real clock; 0: never
  std::uint64_t files = 0, mismatches = 0;
};

// The last time that everything on a shelf was held against its seals.
struct VerifyRecord {
  Nanos when = 0;  // by the calendar; 0: never. All was read then, or from then on bit by bit
  std::uint64_t parts = 0;
  std::uint64_t damaged = 0;  // places
  bool contents = false;      // files were unpacked and compared too
};

// How far a check has come that reads a part of the shelf each time.
struct VerifyRound {
  Nanos began = 0;           // by the calendar; 0: none is under way
  std::optional<SetId> set;  // the file that was read last; nothing: none yet
  std::string file;
  std::uint64_t parts = 0, damaged = 0;  // so far
  bool lacks_disk = false;  // some lay on disks that were not plugged in, and were passed over
};

// Something that was found damaged in a set that is sealed, by a run or by `verify`.
struct KnownDamage {
  SetId set;
  std::string file;  // a part or the ledger, in the set's folder
  std::string reason;
  Nanos found = 0;  // by the real clock
  // From this set on nothing leans on it any more: what lay there was stored anew.
  std::optional<SetId> mended_by;
};

// The keys that the shelf may use.
struct ShelfKeys {
  std::optional<Recipient> recipient;  // nothing: not encrypted
  // Of a change of key that is under way: the shelf's label may name either.
  std::optional<Recipient> next_recipient;
  std::vector<VerifyKey> signers;  // more than one while a change of keys is not finished
  // What was done on other disks of the job while this one was away, and is still to be done here,
  // as it is asked for: "kestrum passphrase NAME --new-key"; empty if nothing is.
  std::string still_to_do;
};

// The newest set that this PC sealed or took in.
struct NewestSet {
  std::uint32_t highest_chain = 0;  // ever used; never goes back
  std::optional<SetId> set;
  std::optional<Digest> seal;
  std::uint64_t number = 0;  // of that seal
};

// Of a folder that is away, or where another disk was mounted, somebody said that what was known
// there will not come back.
struct ReleasedFolder {
  std::string path;  // absolute
  std::string because;
};

// Of a shelf that was taken over: what lay in a folder there is to lie in another one here.
struct FolderHere {
  std::string there, here;  // absolute
  SetId up_to;              // in the sets up to this one; later ones were made here
};

// A copy of the shelf, as it was when it was brought up to date last.
struct CopyRecord {
  std::string place;  // absolute
  Nanos when = 0;     // by the calendar
  std::optional<SetId> newest;
  std::uint64_t sets = 0;
  std::uint64_t problems = 0;  // what could not be copied
};

// A disk that the shelf was on until it was full, and the place where that was.
struct FormerDisk {
  EarlierDisk disk;
  std::string place;  // absolute; empty if not known
};

// The disk that the shelf is on had no room for what was to come.
struct FullDisk {
  Nanos since = 0;         // by the calendar; 0: it is not full
  std::uint64_t free = 0;  // bytes, then
};

struct ShelfRecord {
  std::string shelf;  // UUID
  std::string job, host;
  std::string place;   // absolute folder on the disk, as last seen
  std::string folder;  // of the shelf, relative to the place
  ShelfKeys keys;
  NewestSet newest;
  std::vector<ReleasedFolder> released;  // until a set was made by it
  std::optional<SetId> clock_confirmed;  // up to this set somebody found the times right
  std::string full_because;              // why the next set must be full; empty if it need not
  std::optional<SetId> suspect_since;    // the first suspect set, as the disk was last seen
  Nanos last_seen = 0;                   // by the real clock
  Nanos last_unlocked = 0;               // 0: never
  DrillRecord drill;
  VerifyRecord verified;
  VerifyRound verify_round;
  // The recovery card that was made last: when, by the real clock (0: never), and whether the
  // passphrase or the key was changed since.
  Nanos card_made = 0;
  bool card_outdated = false;
  std::vector<KnownDamage> damage;
  // Of a shelf that was taken over: what its head knew of the job's other disks.
  std::vector<OtherHead> others;
  std::vector<FolderHere> folders_here;
  std::vector<CopyRecord> copies;
  std::string machine;  // id of the one that keeps this; empty in records of a former version
  Nanos since = 0;      // when this machine came to know the shelf; 0: not known
  // How often it moved to another place. What lies where it was before is not written to, however
  // it comes back.
  std::uint64_t moves = 0;
  std::string moving_to;  // absolute place where from now on the shelf is; empty: not moving
  std::vector<FormerDisk> earlier;  // in the order in which they were filled
  // Of the disk that it is on: that one waited under this id, and its label may still say so.
  std::string label_due;
  FullDisk full;
  // As the label of the disk that it is on has them.
  std::vector<EarlierDisk> earlier_disks() const;

  std::string to_json() const;
  // Throws Error(kDamage) naming `what`.
  static ShelfRecord parse(std::string_view text, const std::string& what);
};

}  // namespace kestrum
