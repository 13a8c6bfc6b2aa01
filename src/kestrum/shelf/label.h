// shelf.json: what tells one shelf from another.
#pragma once

#include <optional>
#include <string>

#include "kestrum/base/clock.h"
#include "kestrum/crypto/age_keys.h"

namespace kestrum {

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

  std::string to_json() const;
  // Throws Error(kDamage) naming `what`, also for a version that is newer than this program.
  static ShelfLabel parse(std::string_view text, const std::string& what);
};

}  // namespace kestrum
