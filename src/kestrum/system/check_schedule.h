// Which checks of shelves are due by themselves: verifies and drills, as [checks] says, and copies,
// as [copies] says, which wait, come early and give way as checks do.
#pragma once

#include <optional>
#include <set>
#include <string>
#include <vector>

#include "kestrum/job/job_store.h"
#include "kestrum/machine/schedule_book.h"

namespace kestrum {

enum class CheckKind { kVerify, kDrill, kCopy };
inline constexpr CheckKind kCheckKinds[] = {CheckKind::kVerify, CheckKind::kDrill,
                                            CheckKind::kCopy};
const char* check_name(CheckKind kind);  // "verify", "drill", "copy"
const std::vector<Phrase>& phrases_of(const Job& job, CheckKind kind);

struct DueCheck {
  Job job;
  CheckKind kind = CheckKind::kVerify;
};

class CheckSchedule {
 public:
  CheckSchedule(const Home& home, const Clock& clock)
      : jobs_(home),
        machine_(home),
        book_(ScheduleBook::of_checks(machine_)),
        clock_(clock),
        zone_(Zone::local()) {}

  // Looks at every job and remembers that it did. A check whose time comes before the job's next
  // run is due as soon as a run has made a set, while the disk is there; `ran` are those jobs.
  std::vector<DueCheck> look(Nanos watching_since, const std::set<std::string>& ran) const;
  // Remembers how a check ended: kDone, kWaiting for its disk, kStopped to give way, or kFailed.
  void ended(const DueCheck& check, RunEnd end, const std::string& reason) const;

 private:
  JobStore jobs_;
  MachineState machine_;
  ScheduleBook book_;
  const Clock& clock_;
  Zone zone_;
};

}  // namespace kestrum
