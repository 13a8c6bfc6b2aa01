// retired/KEYID.json: what a key had signed that may sign no more, and what of it stays valid
// (docs/format.md, "retired"). Whoever takes its place vouches for those seals by their digests;
// a span of numbers or of time could be dated back.
#pragma once

#include <set>
#include <string>
#include <vector>

#include "kestrum/base/nanos.h"
#include "kestrum/crypto/digest.h"
#include "kestrum/crypto/signature.h"
#include "kestrum/place/place.h"

namespace kestrum {

inline constexpr const char* kRetiredFolder = "retired";  // relative to the shelf

struct RetiredSigners {
  std::set<Digest> seals;       // that stay valid
  std::vector<VerifyKey> keys;  // that may sign no more
  std::string not_read;         // a list that the disk did not give; it may do so again
};

// What the lists say that are signed by one of `keys` and are of this shelf. Throws Error(kPlace).
RetiredSigners read_retired(Place& place, const std::string& shelf,
                            const std::vector<VerifyKey>& keys);

// Each list is there twice. Lists `seals` as staying valid though `old` may sign no more, signed by
// `key`; `old` empty: nobody knows who signed before.
void write_retired(Place& place, const std::string& shelf, const std::vector<VerifyKey>& old,
                   const std::vector<Digest>& seals, Nanos when, const SigningKey& key);

}  // namespace kestrum
