// Taking over a shelf that another machine, or this one before it was lost, has made.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/folder_map.h"
#include "kestrum/base/observer.h"
#include "kestrum/crypto/secret.h"
#include "kestrum/job/job_store.h"

namespace kestrum {

struct ClaimOptions {
  std::string shelf;                                         // folder
  std::optional<std::string> name;                           // of the job here, if not as it was
  bool look_only = false;                                    // change nothing, here or on the shelf
  FolderMap map;                                             // old and new
  std::function<std::optional<Secret>()> passphrase, again;  // as of KeySource
  bool passphrase_given = false;                             // not only to be had by asking
  bool unprotected_meant = false;                            // a shelf without a passphrase will do
};

struct ClaimedShelf {
  std::string job, shelf;  // name here; folder
  std::string old_job, old_host;
  std::size_t sets = 0;
  std::uint64_t files = 0;            // at the newest restore point
  Nanos newest = 0;                   // 0: no set
  std::vector<std::string> folders;   // of the job, as they are meant here
  std::vector<std::string> missing;   // of those, what is not there
  std::string before, after;          // commands of the job, switched off here
  std::vector<std::string> problems;  // what could not be taken
  bool damaged = false;
};

// Throws Error: kPlace if there is no shelf, kPassphrase, kUsage if a job has the name already or
// the shelf is this machine's own.
ClaimedShelf claim_shelf(const Home& home, const ClaimOptions& options, const Clock& clock,
                         Observer& observer);

}  // namespace kestrum
