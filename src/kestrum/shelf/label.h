// shelf.json: what tells one shelf from another.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/clock.h"
#include "kestrum/base/json.h"
#include "kestrum/crypto/age_keys.h"

namespace kestrum {

// A disk that a shelf was on before it went on to another, when it was full: the sets that it has
// there keep their parts on it.
struct EarlierDisk {
  std::uint64_t number = 0;  // how often the shelf had moved when it was there
  std::string name;          // what people call it
  std::uint64_t seals = 0;   // the highest number of a seal then; 0: there was none yet

  Json to_json() const;
  // Throws Error(kDamage) naming `what`.
  static EarlierDisk parse(const Json& json, const std::string& what);
};

// What people call a disk at `place`: the last name of that, with its number where one before it
// has the same, as where disks take turns at one place.
std::string disk_name(const std::string& place, std::uint64_t number,
                      const std::vector<EarlierDisk>& earlier);

struct ShelfLabel {
  std::string shelf;  // UUID
  std::string job, host;
  std::string owner;  // id of the machine that writes here
  Nanos created = 0;
  bool simulated = false;              // made under KESTRUM_NOW
  std::optional<Recipient> recipient;  // nothing: not encrypted
  // Of a copy: the folder of the shelf when it was copied, in words. Nothing is written to a copy
  // but what its shelf has.
  std::optional<std::string> copy_of;
  // How often the shelf moved to another place before it came here; a shelf with a smaller number
  // than the one that its PC knows is where it was before.
  std::uint64_t moves = 0;
  // Where it went to, in words, if it moved away from here: nothing is written here any more.
  std::optional<std::string> moved_to;
  // It is full, and the shelf went on from here: sets there have parts here.
  bool filled = false;
  // Of a disk that the shelf goes on to once the one that it is on is full: an id of this disk,
  // which holds nothing yet.
  std::optional<std::string> waits;
  // In the order in which they were filled; of a shelf that never went on to another disk, none.
  std::vector<EarlierDisk> earlier;

  // Whether it is right for it to lack the newest sets.
  bool may_be_behind() const { return copy_of || moved_to || waits; }
  const EarlierDisk* earlier_disk(std::uint64_t number) const;
  // The one that a part of a sealed set lies on: `seal` is the number of the seal, and `on` that of
  // the disk where the seal names one. nullptr for what is to be where the shelf is now.
  const EarlierDisk* lies_on(std::uint64_t seal, std::optional<std::uint64_t> on) const;

  std::string to_json() const;
  // Throws Error(kDamage) naming `what`, also for a version that is newer than this program.
  static ShelfLabel parse(std::string_view text, const std::string& what);
};

}  // namespace kestrum
