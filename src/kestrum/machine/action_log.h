// What was done to a job by hand: taken over, trusted, pruned, claimed. Beside the records of its
// runs: <state>/runs/<job>/actions.jsonl, a JSON document a line.
#pragma once

#include <string>
#include <vector>

#include "kestrum/base/nanos.h"
#include "kestrum/machine/machine_state.h"

namespace kestrum {

struct Action {
  Nanos when = 0;
  std::string host, who;  // the user who asked, also behind sudo
  std::string what;       // "trust", "prune", "claim", "take"
  std::string detail;     // in words: sets, reasons
};

// The user who runs this program, and by SUDO_USER who asked for it: "root for desk".
std::string acting_user();

// Never throws: what was done is done, and is told in any case.
void note_action(const MachineState& machine, const std::string& job, const std::string& what,
                 const std::string& detail, Nanos now);
// The oldest first; of a long log its end. Lines that cannot be read are passed over.
std::vector<Action> actions_of(const MachineState& machine, const std::string& job);

}  // namespace kestrum
