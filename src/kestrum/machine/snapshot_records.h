// What this PC notes of snapshots that runs make of what they copy, so that one which a killed run
// left is found: <state>/snapshots/<id>.json, there from before the snapshot is made until it is
// removed.
#pragma once

#include <string>
#include <vector>

#include "kestrum/machine/machine_state.h"

namespace kestrum {

struct SnapshotRecord {
  std::string id;         // of the record; unique
  std::string job;        // whose run made it
  std::string top, name;  // the folder that it is in, absolute, and its name there
};

class SnapshotRecords {
 public:
  explicit SnapshotRecords(const MachineState& machine)
      : folder_(machine.folder() + "/snapshots") {}

  // Those that can be read.
  std::vector<SnapshotRecord> all() const;
  void put(const SnapshotRecord& record) const;
  void drop(const std::string& id) const;
  // False at the first time for a job: somebody is to be told why its runs make none.
  bool was_told(const std::string& job) const;
  void note_told(const std::string& job, const std::string& why) const;

 private:
  std::string folder_;
};

}  // namespace kestrum
