// What the next run of a job would do, worked out from metadata without writing anything.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/observer.h"
#include "kestrum/inspect/job_outlook.h"
#include "kestrum/place/place.h"
#include "kestrum/plan/expected_changes.h"

namespace kestrum {

struct ForecastOptions {
  std::optional<SetKind> kind;
  std::optional<std::string> on_place;
  bool sample = true;  // read samples of the files where no past run tells how they compress
  // Called for every file, in path order; `path` is absolute, `rule` is kTaken unless left out.
  std::function<void(FileFate, const std::string& path, std::uint64_t size, Rule rule)> visit;
  StopRequest stop;
};

// Of a job whose sets go on from disk to disk.
struct DisksToCome {
  std::string on;          // what the disk is called that the next set begins on
  std::uint64_t size = 0;  // of that one, bytes
  // Disks of that size which the next set takes besides it, and those that the plan takes in all.
  std::uint64_t more = 0, plan = 0;
  struct Waiting {
    std::string name;
    std::uint64_t free = 0;
  };
  std::vector<Waiting> waiting;  // those that are plugged in
};

// Disks of `size` bytes that are filled when so much is to be stored, of which `free` are left
// where it begins: of each disk up to a part stays free. Bytes.
std::uint64_t disks_to_fill(std::uint64_t bytes, std::uint64_t free, std::uint64_t size,
                            std::uint64_t part_size);

struct Forecast {
  NextSet next;
  ExpectedChanges changes;
  RunEstimate estimate;
  std::vector<std::string> fresh_folders;        // match a pattern of the job for the first time
  std::string shelf_path;                        // empty while the disk is away
  std::string away;                              // why it is
  std::optional<Room> room;                      // nothing while the disk is away, or does not tell
  std::uint64_t kept_parts = 0, kept_bytes = 0;  // on the disk, of a run that did not finish
  std::uint64_t needed = 0;                      // bytes, besides what is kept
  std::uint64_t freed_before = 0;  // bytes that pruning would free first, if room is short
  JobOutlook plan;                 // nothing is known of it while the disk is away
  std::string kept_why;            // if it does not fit: which promise holds which chain
  std::string no_pruning;          // why nothing would be pruned at all; empty if it would
  std::optional<DisksToCome> disks;
  std::uint64_t free_on_waiting() const;
  bool enough() const { return !room || needed <= room->free + freed_before + free_on_waiting(); }
  bool plan_fits() const { return !room || !plan.middle.full_at; }
};

// Throws Error like a run would for a job that is busy or a shelf that is not to be trusted; a disk
// that is away is a field of the answer.
Forecast make_forecast(const MachineState& machine, const Job& job, const ForecastOptions& options,
                       const Clock& clock, Observer& observer);

// Only what the job's folders and rules take, compared with nothing: for a job that is being
// defined, and for `job check`.
ExpectedChanges survey(const MachineState& machine, const Job& job, Nanos now,
                       const StopRequest& stop, Observer& observer);

}  // namespace kestrum
