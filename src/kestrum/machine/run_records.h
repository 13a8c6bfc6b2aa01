// The records of past runs on this machine: <state>/runs/<job>/<run>.json, beside each its log.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/json.h"
#include "kestrum/chain/trend.h"
#include "kestrum/machine/machine_state.h"
#include "kestrum/machine/run_report.h"

namespace kestrum {

class RunRecords {
 public:
  RunRecords(const MachineState& machine, const std::string& job)
      : folder_(machine.runs_folder(job)) {}

  // Ids of runs that ended or were cut off, oldest first.
  std::vector<std::string> runs() const;
  // A run's record as `run --json` gave it; nothing if it is not there or damaged.
  std::optional<Json> load(const std::string& run) const;
  // The newest record; with `pick`, the newest that it takes.
  std::optional<Json> newest(const std::function<bool(const Json&)>& pick = {}) const;
  std::string log_path(const std::string& run) const { return folder_ + "/" + run + ".log"; }
  std::string record_path(const std::string& run) const { return folder_ + "/" + run + ".json"; }
  // Of a run that is at work, which holds a lock on it, or was cut off: its record as far as it
  // goes.
  std::string begun_path(const std::string& run) const { return folder_ + "/" + run + ".begun"; }
  const std::string& folder() const { return folder_; }
  // Removes all but the newest `keep` records and their logs.
  void keep_newest(std::size_t keep) const;

 private:
  bool was_cut_off(const std::string& run) const;
  std::string folder_;
};

// What past runs tell of the next: bytes stored for each byte copied, and seconds it would take.
struct PastRuns {
  std::uint64_t copied = 0;  // bytes that the ratio is known from
  double ratio = 1;
  double seconds_a_unit = 0;  // 0: not known
  // Work grows with bytes copied, files copied and files looked at.
  static double units(std::uint64_t bytes_copied, std::uint64_t files_copied,
                      std::uint64_t files_seen);
};
PastRuns past_runs(const RunRecords& records);

// Of the newest runs that made a set, the oldest first.
std::vector<PastSet> past_sets(const RunRecords& records);

// What the newest run found away that got so far as to look.
std::vector<AwayFolder> last_away(const RunRecords& records);

// Of a run's id such as "000006_2026-03-14T210000Z"; 0 if it is none.
unsigned run_number(const std::string& run);

// A number or a text of a record; 0 or "" if there is none.
std::uint64_t record_count(const Json& record, const char* group, const char* key);
// What was free at the place when the run ended; nothing where it did not tell.
std::optional<std::uint64_t> free_bytes_in(const Json& record);
std::string record_text(const Json& record, const char* key);
Nanos record_time(const Json& record, const char* key);

}  // namespace kestrum
