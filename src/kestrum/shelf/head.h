// heads/NUMBER.json: the newest seal of a shelf and its number, signed, beside the sets. A shelf
// that was cut back, or exchanged for an older copy of itself, so shows to whoever never saw it
// before (docs/format.md, "heads").
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/json.h"
#include "kestrum/base/nanos.h"
#include "kestrum/chain/set_id.h"
#include "kestrum/crypto/digest.h"
#include "kestrum/crypto/signature.h"
#include "kestrum/place/place.h"

namespace kestrum {

inline constexpr const char* kHeadsFolder = "heads";  // relative to the shelf

// The newest seal that is known of another disk of the job.
struct OtherHead {
  std::string shelf;  // UUID
  std::uint64_t number = 0;
  Digest seal{};
};

// As documents have them. Parsing throws Error(kDamage) naming `what`.
Json others_json(const std::vector<OtherHead>& others);
std::vector<OtherHead> parse_others(const Json& list, const std::string& what);

struct Head {
  std::string shelf;
  std::uint64_t number = 0;
  SetId set;
  Digest seal{};
  Nanos when = 0;
  std::vector<OtherHead> others;

  std::string to_json() const;
  // Throws Error(kDamage) naming `what`.
  static Head parse(std::string_view text, const std::string& what);
};

// The one with the highest number of those whose signature is by one of `keys` (any, without keys)
// and that are of this shelf. Throws Error(kPlace).
std::optional<Head> newest_head(Place& place, const std::string& shelf,
                                const std::vector<VerifyKey>& keys);

// Puts it beside those that are there, and removes all but the two newest after that.
void write_head(Place& place, const Head& head, const SigningKey& key);

}  // namespace kestrum
