// What nobody types besides runs: verifies and drills of [checks], copies of [copies].
#pragma once

#include <functional>
#include <set>
#include <string>

#include "args.h"
#include "context.h"
#include "kestrum/system/check_schedule.h"

namespace kestrum::cli {

class DueChecks {
 public:
  // `run_is_due` is asked while a check goes on: it gives way, and goes on from there later.
  DueChecks(const Context& context, std::function<bool()> run_is_due)
      : context_(context),
        schedule_(context.home, context.clock),
        run_is_due_(std::move(run_is_due)) {}

  // Does what is due; `ran` are the jobs that just made a set. False if it gave way to a run.
  bool run(Nanos watching_since, const std::set<std::string>& ran);
  int exit() const { return exit_; }  // 4 where damage was found

 private:
  struct Ended {
    RunEnd how = RunEnd::kDone;
    std::string reason;  // in words, also of one that was done
    int exit = 0;
  };
  void check(const DueCheck& due);
  Ended verify(const Job& job);
  Ended drill(const Job& job);
  Ended copy(const Job& job);
  bool gives_way();

  const Context& context_;
  CheckSchedule schedule_;
  std::function<bool()> run_is_due_;
  Nanos asked_ = 0;
  bool gave_way_ = false;
  int exit_ = 0;
};

}  // namespace kestrum::cli
