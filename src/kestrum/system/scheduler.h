// Which jobs are due, from what is remembered of each.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kestrum/job/job_store.h"
#include "kestrum/machine/run_report.h"
#include "kestrum/machine/schedule_book.h"

namespace kestrum {

struct DueJob {
  Job job;
  Nanos due = 0;    // the time that it stands for
  std::string why;  // for the record: "scheduled for ...", "makes up for ..."
};

// A sentence about a job.
struct JobNote {
  std::string job, text;
};

struct ScheduleLook {
  std::vector<DueJob> due;             // earliest first
  std::vector<JobNote> let_go;         // times given up; each wants a record
  std::vector<JobNote> notes;          // such as a clock that was set back
  std::vector<JobNote> unusable;       // job files that cannot be used
  std::optional<Nanos> next;           // when to look again at the latest
  std::vector<Job> when_files_change;  // not paused
};

class Scheduler {
 public:
  Scheduler(const Home& home, const Clock& clock)
      : jobs_(home), machine_(home), book_(machine_), clock_(clock), zone_(Zone::local()) {}

  // Looks at every job and remembers that it did. Times since `watching_since` were not missed,
  // whatever kept the caller from looking.
  ScheduleLook look(Nanos watching_since) const;

  // What a scheduled run waits for before it starts (a disk, mains power); nothing if it can.
  std::optional<std::string> waits_for(const Job& job) const;

  // Remembers how a run of a job ended. A run by hand counts only if it made a set.
  ScheduleState ended(const std::string& job, const RunReport& report, bool by_hand) const;
  // Remembers that a run waits; true if it did not wait before.
  bool waits(const std::string& job, const std::string& reason) const;

  const ScheduleBook& book() const { return book_; }
  Timetable timetable(const Job& job) const { return timetable_of(job, machine_, zone_); }

 private:
  JobStore jobs_;
  MachineState machine_;
  ScheduleBook book_;
  const Clock& clock_;
  Zone zone_;
};

}  // namespace kestrum
