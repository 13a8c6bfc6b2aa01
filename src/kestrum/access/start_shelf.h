// Making a job's shelf at a place, and keeping its copy of the job.
#pragma once

#include <string>

#include "kestrum/access/open_shelf.h"
#include "kestrum/crypto/secret.h"

namespace kestrum {

struct StartOptions {
  std::string place;
  bool same_disk = false;  // allow the filesystem of "/" or of a source
  Secret passphrase;       // for a protected job
};

// Throws Error(kUsage) for a place on the filesystem of "/" or of a source, Error(kPlace) for one
// that is not there; a server may say no as well.
void check_place(const Job& job, const std::string& place, bool same_disk);

// The folder of a shelf, <host>/<job>, below a place. Throws Error(kUsage) for one of another user.
void make_shelf_folder(const std::string& place, const std::string& folder);

// Makes the job's shelf at a place: folders, keys, the copy of the job, the label last.
OpenShelf start_shelf(const MachineState& machine, const Job& job, const std::string& job_text,
                      const StartOptions& options, const Clock& clock);

// Puts the copy of the job on the shelf if it changed, or is not there as this PC signed it.
void update_job_copy(OpenShelf& open, const std::string& job_text);

}  // namespace kestrum
