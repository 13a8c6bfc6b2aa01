// A copy of a shelf on another disk: the same sets, byte by byte, under a label that says of what
// it is a copy (docs/format.md, "Copies of a shelf").
#pragma once

#include <cstdint>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/observer.h"

namespace kestrum {

struct CopyRequest {
  std::string place;                        // absolute: the folder of the other disk
  bool newest_chain = false;                // only the sets of it
  std::set<SetId> leave;                    // not worth copying, if they are not there
  std::optional<std::uint64_t> rate_limit;  // bytes a second
  StopRequest stop;
};

struct CopyResult {
  std::string folder;  // absolute: the copy
  std::vector<SetId> copied;
  std::uint64_t there = 0;  // sets that the copy had before
  std::uint64_t bytes = 0;  // copied
  // What the copy lacks, or has otherwise, and why; in words.
  std::vector<std::string> problems;
};

// Brings the copy at a place up to date, or makes it. No secret is needed. Every file is compared
// with the digest that its seal has, as it is read and on the other disk afterwards; a set is there
// whole or not at all, after the set it is based on, and what a copy that was cut off had copied of
// one is gone on with. Nothing of the copy is ever removed or replaced but labels, lists and keys
// by the newer ones; keys only where this PC knows them to be right. Throws Error(kUsage) where
// something else lies there, Error(kDamage) for a shelf that was set back, and as Place does.
CopyResult copy_shelf(OpenShelf& from, const CopyRequest& request, Observer& observer);

// The copy of a shelf at a place, to be read and pruned; nothing if there is none. Throws as
// reading a label does.
std::optional<OpenShelf> find_copy(const ShelfState& of, const std::string& place);

}  // namespace kestrum
