// That somebody found a suspect set all right: trusted.json in its folder, signed.
#pragma once

#include <string>
#include <vector>

#include "kestrum/base/nanos.h"
#include "kestrum/crypto/signature.h"
#include "kestrum/place/place.h"
#include "kestrum/shelf/shelf_set.h"

namespace kestrum {

inline constexpr const char* kTrustedFile = "trusted.json";  // in a set's folder

struct Trust {
  std::string shelf;  // UUID
  std::string because;
  Nanos when = 0;
};

void write_trust(Place& place, const ShelfSet& set, const Trust& trust, const SigningKey& key);

// Why the set is trusted; empty if nobody said so. A file that is missing, or not by one of `keys`,
// or of another seal, says nothing. Throws Error(kPlace) if the disk went away.
std::string read_trust(Place& place, const std::string& shelf, const ShelfSet& set,
                       const std::vector<VerifyKey>& keys);

}  // namespace kestrum
