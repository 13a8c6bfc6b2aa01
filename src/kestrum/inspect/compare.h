// What is different from one moment to another.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/access/read_session.h"
#include "kestrum/machine/differing_paths.h"

namespace kestrum {

const char* difference_name(Difference difference);  // "new", "changed", "moved", "gone"

struct CompareTotals {
  std::uint64_t files[4] = {}, bytes[4] = {};  // by Difference; bytes of what is there, or was
  std::uint64_t same = 0;
  bool any() const { return files[0] + files[1] + files[2] + files[3] > 0; }
};

struct CompareScope {
  SetId from;
  std::string below;  // relative to "/", "" is everything
  StopRequest stop;
};

// The disk as it is, by the folders and rules of a job.
struct DiskNow {
  const MachineState& machine;
  Job job;
  Nanos now = 0;
};

// Compares what is not a folder, by content. Calls `visit` in groups: new, changed, moved, gone,
// each in path order, with absolute paths.
CompareTotals compare_sets(ReadSession& session, const CompareScope& scope, SetId to,
                           const std::function<void(const DifferingPath&)>& visit);

// From a restore point to the disk as it is, by the rules of the job. What cannot be read now, and
// what the rules leave out, is not different. Files whose size is the same and whose time is not
// are read.
CompareTotals compare_with_now(const DiskNow& disk, ReadSession& session, const CompareScope& scope,
                               Observer& observer,
                               const std::function<void(const DifferingPath&)>& visit);

}  // namespace kestrum
