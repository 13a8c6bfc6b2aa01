// What a run is given to work with: nothing of it changes while it runs.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/shelf_lease.h"
#include "kestrum/backup/run_observer.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/error.h"
#include "kestrum/base/observer.h"
#include "kestrum/chain/set_id.h"
#include "kestrum/crypto/secret.h"
#include "kestrum/job/job.h"
#include "kestrum/machine/machine_state.h"

namespace kestrum {

struct BackupOptions {
  std::string run;                    // id, unique among the runs of the job on this machine
  std::string trigger = "by hand";    // what the run came of
  std::string job_text;               // of the job's file, for the copy on the shelf
  std::vector<std::string> warnings;  // about the job; they count as the run's own
  std::optional<SetKind> kind;
  std::optional<std::string> on_place;
  bool reread = false;        // digest every file, whatever its times say
  bool no_verify = false;     // do not read back what was written
  bool accept_empty = false;  // a folder that held files and is empty now is meant to be
  // A passphrase for rebuilding a lost index, asked for only then; nothing if there is none.
  std::function<std::optional<Secret>()> passphrase;
  // Asks for the disk that a job goes on to when the one that it is on is full, and waits until
  // somebody says that it is there; false if nobody brings it. May be empty.
  std::function<bool(const Error& why)> next_disk;
  StopRequest stop;
};

struct RunInput {
  const MachineState& machine;
  const Job& job;
  const BackupOptions& options;
  const Clock& clock;
  RunObserver& observer;
  ShelfLease& lease;   // taken once the shelf is found
  std::string host;    // this PC
  Nanos started = 0;   // the restore point
  Nanos interval = 0;  // of the schedule; 0: none

  void check_stop() const {
    if (options.stop && options.stop()) throw Error(ErrorKind::kStopped, "stopped");
  }
};

}  // namespace kestrum
