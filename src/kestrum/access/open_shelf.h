// A shelf that is plugged in, and what this machine keeps about it.
#pragma once

#include <optional>
#include <string>

#include "kestrum/access/earlier_disks.h"
#include "kestrum/base/observer.h"
#include "kestrum/job/job.h"
#include "kestrum/machine/machine_state.h"
#include "kestrum/machine/run_report.h"
#include "kestrum/shelf/shelf.h"

namespace kestrum {

// A shelf and what this machine keeps about it.
struct OpenShelf {
  std::shared_ptr<Place> place;  // the shelf's own folder
  Shelf shelf;
  std::optional<ShelfState> state;  // nothing for a shelf that this machine does not know
  std::string path;                 // absolute folder of the shelf
  std::string instead_of;           // the place where it was expected; empty if it is there
  // Of a shelf that went on from disk to disk: those that it was on. They are what `place` looks
  // on for what is not on the disk that it is on now.
  std::shared_ptr<EarlierDisks> earlier;
  // Opened with a key file: whoever made the shelf could write into it who signs.
  bool signers_unknown = false;

  // Why this machine only reads what this PC knows; empty if it may write.
  std::string read_only;

  // The name of the disk that a part of a sealed set lies on, if that is not plugged in.
  std::optional<std::string> away_disk(const Seal& seal, const PartInfo& part) const;
  // The same of the first of a set's parts whose disk is not.
  std::optional<std::string> away_disk(const Seal& seal) const;

  // Whether somebody whom this PC, or a passphrase, knows vouches for what the shelf says.
  bool vouched() const { return !shelf.keys().empty() && !signers_unknown; }
};

// Signs a shelf's label with this PC's key, and makes it last.
void write_own_label(Place& place, const ShelfState& state, const ShelfLabel& label);

inline constexpr const char* kTakenOver = "another machine has taken over this shelf";

// Whether a label is of where a shelf was before it moved, by itself or by what this PC knows.
// `place` is where it lies.
bool is_former_home(const ShelfLabel& label, const ShelfRecord& record, const std::string& place);

// Whether there seems to be a shelf in a folder below a place; what cannot be looked at is for
// whoever opens it to tell.
// Throws Error(kPlace) for a server that cannot be reached.
bool seems_shelf(const std::string& place, const std::string& folder);

// The shelf of `state` in a folder below a place, whose label was read. Throws Error(kDamage) for a
// label that was tampered with.
OpenShelf open_known_shelf(const MachineState& machine, const std::string& on,
                           const std::string& relative, ShelfLabel label, ShelfState state);

// Folders with a shelf's label in them, at most three levels below a folder that is there; what
// cannot be read is passed over, and so is what comes after `most` folders.
std::vector<std::string> shelves_below(const std::string& folder, std::size_t most = 1000);

// The shelf in a folder, known to this machine or not.
OpenShelf open_shelf_at(const MachineState& machine, const std::string& folder);

// Throws Error(kPassphrase) if a shelf that is not protected stands where one that is was meant:
// of one that this PC knows its own record says so, of others `secret_given`, that a passphrase or
// a key file was. `unprotected_meant` allows it all the same.
void check_protection(const OpenShelf& open, bool secret_given, bool unprotected_meant);

// What to tell when `error` ended the work on a shelf: that the disk or share went away, if it did.
Error named_if_lost(const OpenShelf& open, const Error& error);

// Throws Error(kUsage) unless the clock fits the shelf: a simulated shelf is written only under a
// simulated clock, any other only under the real one.
void check_clock(const ShelfLabel& label, const Clock& clock);

// Sets, sizes and room, as they are now.
ShelfSummary summary_of(const OpenShelf& open);

}  // namespace kestrum
