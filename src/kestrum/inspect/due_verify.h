// A verify that nobody types, which may have to give way before it is through.
#pragma once

#include <optional>
#include <string>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/observer.h"

namespace kestrum {

struct DueVerifyRequest {
  unsigned percent = 100;  // of the shelf's bytes, from 1; 100: a look at the whole
  // Why the shelf is known to be an older state of itself; see access/other_disks.h.
  std::optional<std::string> set_back;
  StopRequest stop;
};

struct DueVerifyResult {
  bool stopped = false;     // before it was through; the next goes on from there
  std::size_t damaged = 0;  // places, as far as was read
  std::string words;        // how much was read, and what came of it; empty if nothing was
};

// A look at the whole that was stopped, or cut off by whatever ends a PC's day, is gone on with in
// parts that are remembered, so that it comes to its end however often it has to give way; the next
// one is a look at the whole again. No secret is needed. Throws Error(kPlace) if the disk goes
// away.
DueVerifyResult verify_when_due(OpenShelf& open, const DueVerifyRequest& request,
                                Observer& observer);

}  // namespace kestrum
