// What this machine keeps about the shelves it writes to, one folder a shelf:
//
//   <state>/machine              id of this machine
//   <state>/<shelf id>/pin.json  what must not change unnoticed: recipient, newest seal, ...
//                      identity.age  the wrapped identity, its third copy
//                      signing.key   this machine's Ed25519 key for the shelf
//                      index.sqlite  a cache
//                      job.copy      digest of the job copy last put on the shelf
//                      job.toml      the job as it was then
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/crypto/signature.h"
#include "kestrum/job/job.h"
#include "kestrum/shelf/label.h"
#include "kestrum/shelf/seal.h"

namespace kestrum {

// The last drill of a shelf, as `status` shows it.
struct DrillRecord {
  Nanos when = 0;  // by the real clock; 0: never
  std::uint64_t files = 0, mismatches = 0;
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

struct Pin {
  std::string shelf;  // UUID
  std::string job, host;
  std::string place;   // absolute folder on the disk, as last seen
  std::string folder;  // of the shelf, relative to the place
  std::optional<Recipient> recipient;
  // Of a change of key that is under way: the shelf's label may name either.
  std::optional<Recipient> next_recipient;
  std::vector<VerifyKey> keys;  // that may sign
  std::uint32_t highest_chain = 0;
  std::optional<SetId> newest_set;
  std::optional<Digest> newest_seal;
  // A full set was made while files could not be read: the last full set that has them all, whose
  // chain stays until a full set holds as many files again.
  std::optional<SetId> held_full;
  std::uint64_t held_files = 0;
  std::optional<SetId> clock_confirmed;  // up to this set somebody found the times right
  std::string full_because;              // why the next set must be full; empty if it need not
  std::optional<SetId> suspect_since;    // the first suspect set, as the disk was last seen
  Nanos last_seen = 0;                   // by the real clock
  Nanos last_unlocked = 0;               // 0: never
  DrillRecord drill;
  std::vector<KnownDamage> damage;
  Nanos since = 0;  // when this machine came to know the shelf; 0: not known

  std::string to_json() const;
  static Pin parse(std::string_view text, const std::string& what);
};

class ShelfState {
 public:
  ShelfState(std::string folder, Pin pin_value)
      : pin(std::move(pin_value)), folder_(std::move(folder)) {}

  Pin pin;
  void save_pin() const;  // of a shelf that is new
  // Changes the pin as it is on disk by now, with nobody in between.
  void update_pin(const std::function<void(Pin&)>& change);

  std::string index_path() const { return folder_ + "/index.sqlite"; }
  std::string identity_path() const { return folder_ + "/identity.age"; }
  SigningKey signing_key() const;
  void save_signing_key(const SigningKey& key) const;
  const std::string& folder() const { return folder_; }

 private:
  std::string folder_;
};

class MachineState {
 public:
  explicit MachineState(const Home& home) : home_(home) {}

  // Made at the first call.
  std::string machine_id() const;
  // The shelves of a job (of every job, without a name). Damaged state folders are left out.
  std::vector<ShelfState> shelves(const std::optional<std::string>& job = std::nullopt) const;
  ShelfState create(const Pin& pin) const;
  const std::string& folder() const { return home_.state; }
  std::string runs_folder(const std::string& job) const { return home_.state + "/runs/" + job; }
  std::string lock_path(const std::string& job) const { return home_.state + "/locks/" + job; }

 private:
  Home home_;
};

}  // namespace kestrum
