// Finding a job's shelf among the disks that are plugged in, and starting one.
#pragma once

#include <optional>
#include <string>

#include "kestrum/base/observer.h"
#include "kestrum/crypto/secret.h"
#include "kestrum/job/job.h"
#include "kestrum/machine/machine_state.h"
#include "kestrum/machine/run_report.h"
#include "kestrum/shelf/identity_file.h"
#include "kestrum/shelf/shelf.h"

namespace kestrum {

// A shelf and what this machine keeps about it.
struct OpenShelf {
  std::shared_ptr<Place> place;  // the shelf's own folder
  Shelf shelf;
  std::optional<ShelfState> state;  // nothing for a shelf that this machine does not know
  std::string path;                 // absolute folder of the shelf
  std::string instead_of;           // the place where it was expected; empty if it is there
};

// The job's shelf at the first of its places that is there (at `on_place` only, if given). Of
// several, the one whose newest set is the older. If none is there, on whatever mounted disk it is
// found, by its label. Throws Error(kPlace) saying which of the cases it
// is: not plugged in, another disk, no shelf yet; Error(kDamage) for a label that was tampered
// with.
OpenShelf find_shelf(const MachineState& machine, const Job& job,
                     const std::optional<std::string>& on_place = std::nullopt);

// The shelf in a folder, known to this machine or not.
OpenShelf open_shelf_at(const MachineState& machine, const std::string& folder);

// What to tell when `error` ended the work on a shelf: that the disk or share went away, if it did.
Error named_if_lost(const OpenShelf& open, const Error& error);

// Throws Error(kUsage) unless the clock fits the shelf: a simulated shelf is written only under a
// simulated clock, any other only under the real one.
void check_clock(const ShelfLabel& label, const Clock& clock);

struct StartOptions {
  std::string place;
  bool same_disk = false;  // allow the filesystem of "/" or of a source
  Secret passphrase;       // for a protected job
};

// Throws Error(kUsage) for a place on the filesystem of "/" or of a source, Error(kPlace) for one
// that is not there.
void check_place(const Job& job, const std::string& place, bool same_disk);

// Makes the job's shelf at a place: folders, keys, the copy of the job, the label last.
OpenShelf start_shelf(const MachineState& machine, const Job& job, const std::string& job_text,
                      const StartOptions& options, const Clock& clock);

// Opens the shelf's identity with the passphrase, or with an age identity of the support desk's:
// all that the shelf's two copies and this machine's own hold together, since any of them may have
// been set back to an older one. Throws Error(kPassphrase) if it opens none.
IdentityFile unlock_shelf(OpenShelf& open, const Secret& passphrase);
IdentityFile unlock_shelf_with_key_file(OpenShelf& open, std::span<const Identity> identities);

// Whether `identity` holds the key that the shelf is encrypted to now: the one this PC has pinned,
// otherwise the one in the label.
bool holds_current_key(const OpenShelf& open, const IdentityFile& identity);
// Throws Error(kDamage) if it does not. Nothing is wrapped anew without it.
void require_current_key(const OpenShelf& open, const IdentityFile& identity);

// Sets, sizes and room, as they are now.
ShelfSummary summary_of(const OpenShelf& open);

// Puts the copy of the job on the shelf if it changed.
void update_job_copy(OpenShelf& open, const std::string& job_text);

}  // namespace kestrum
