// One run of a job: from the folders to a sealed set.
#pragma once

#include <optional>
#include <string>

#include "kestrum/access/open_shelf.h"
#include "kestrum/base/observer.h"
#include "kestrum/crypto/secret.h"
#include "kestrum/machine/run_report.h"

namespace kestrum {

struct BackupOptions {
  std::optional<SetKind> kind;
  std::optional<std::string> on_place;
  bool reread = false;        // digest every file, whatever its times say
  bool no_verify = false;     // do not read back what was written
  bool accept_empty = false;  // a folder that held files and is empty now is meant to be
  // A passphrase for rebuilding a lost index, asked for only then; nothing if there is none.
  std::function<std::optional<Secret>()> passphrase;
  StopRequest stop;
};

// Runs the job. Never throws for what goes wrong during the run: that is the report's outcome,
// exit, reason and hint. `report.run` is set by the caller.
void run_backup(const MachineState& machine, const Job& job, const std::string& job_text,
                const BackupOptions& options, const Clock& clock, Observer& observer,
                RunReport& report);

}  // namespace kestrum
