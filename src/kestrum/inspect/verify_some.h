// Checking a part of what lies on a shelf: the next files in order, so that all of it is read
// within a few times, or some chosen at random. No secret is needed.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/observer.h"
#include "kestrum/inspect/damage.h"

namespace kestrum {

struct VerifySomeRequest {
  unsigned percent = 100;  // of the bytes of all sealed sets, from 1; at least one file
  // By chance, from this seed; nothing: from where the last time ended, which is remembered.
  std::optional<std::uint64_t> seed;
  StopRequest stop;  // what was read until then is remembered all the same
};

struct VerifySomeResult {
  std::uint64_t sets = 0, parts = 0;  // of which something was read; parts of them
  std::uint64_t bytes = 0;            // read
  std::uint64_t all_bytes = 0;        // of all sealed sets
  std::vector<Damage> damage;         // in what was read
  bool stopped = false;
  bool lacks_disk = false;  // some lay on disks of the shelf that are not plugged in
  bool all_read = false;    // since the round began, every file was read once
};

// Damage that is found is remembered, as by verify_shelf; nothing that is known is forgotten, since
// only a look at everything can tell. Throws Error(kPlace) if the disk goes away.
VerifySomeResult verify_some(OpenShelf& open, const VerifySomeRequest& request, Observer& observer);

}  // namespace kestrum
