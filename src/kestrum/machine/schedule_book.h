// What this machine remembers of each job's schedule: <state>/schedule/<job>.json.
#pragma once

#include <functional>
#include <string>

#include "kestrum/base/clock.h"
#include "kestrum/job/job.h"
#include "kestrum/machine/machine_state.h"
#include "kestrum/schedule/due.h"

namespace kestrum {

class ScheduleBook {
 public:
  explicit ScheduleBook(const MachineState& machine) : folder_(machine.folder() + "/schedule") {}
  // Of checks, by check_key: a book of its own beside it.
  static ScheduleBook of_checks(const MachineState& machine);

  // A job never seen, or a damaged file, gives an empty state.
  ScheduleState load(const std::string& job) const;
  // Loads, changes and saves with nobody in between; returns what was saved.
  ScheduleState update(const std::string& job,
                       const std::function<void(ScheduleState&)>& change) const;
  void rename(const std::string& job, const std::string& new_name) const;
  void remove(const std::string& job) const;

 private:
  explicit ScheduleBook(std::string folder) : folder_(std::move(folder)) {}
  std::string path(const std::string& job) const { return folder_ + "/" + job + ".json"; }
  std::string folder_;
};

// What a check of a job has its entry by: no job has this name.
inline std::string check_key(const std::string& job, const std::string& check) {
  return job + "~" + check;
}
inline constexpr const char* kCheckNames[] = {"verify", "drill", "copy"};

// Phrases in standard form, one a line; those of a job.
std::string phrases_text(const std::vector<Phrase>& phrases);
std::string phrases_text(const Job& job);

// The job's timetable on this machine. Its share of `spread` is always the same.
Timetable timetable_of(const Job& job, const MachineState& machine, const Zone& zone);

}  // namespace kestrum
