#include "kestrum/backup/backup.h"

#include <algorithm>
#include <thread>

#include "kestrum/access/next_disk.h"
#include "kestrum/backup/backup_run.h"
#include "kestrum/backup/prune.h"
#include "kestrum/base/file.h"
#include "kestrum/base/host_name.h"
#include "kestrum/machine/job_lock.h"
#include "kestrum/system/power.h"
#include "kestrum/system/run_commands.h"

namespace kestrum {
namespace {

void end_by(const Error& error, Outcome outcome, RunReport& report) {
  report.outcome = outcome;
  report.exit = error.exit_code();
  report.reason = error.message();
  report.hint = error.hint();
}

// Whether the disk was left as full, so that the set goes on on another one.
bool goes_on(const RunInput& input) {
  std::vector<ShelfState> shelves = input.machine.shelves(input.job.name);
  return input.job.when_full == WhenFull::kAsk &&
         std::any_of(shelves.begin(), shelves.end(),
                     [](const ShelfState& state) { return state.record.full.since != 0; });
}

// Whether a disk waits that the job goes on to; somebody who is there may bring it.
bool has_next_disk(const RunInput& input, const Error& why) {
  for (const ShelfState& state : input.machine.shelves(input.job.name)) {
    if (state.record.full.since == 0) continue;
    const auto& ask = input.options.next_disk;
    for (;;) {
      if (waiting_disk(input.job, state.record, input.options.on_place)) return true;
      if (!ask || !ask(why)) return false;
      input.check_stop();
    }
  }
  return false;
}

// How often the job's shelves went to another disk.
std::uint64_t moves_of(const RunInput& input) {
  std::uint64_t moves = 0;
  for (const ShelfState& state : input.machine.shelves(input.job.name)) moves += state.record.moves;
  return moves;
}

// Runs on one disk after the other, as they are full.
void run_on_disks(std::optional<BackupRun>& run, RunInput& input, RunMessages& messages) {
  for (std::optional<std::uint64_t> moves;;) {
    try {
      return run->run();
    } catch (const Error& error) {
      // Where it did not come to another disk since, that has some other reason.
      std::uint64_t now = error.kind() == ErrorKind::kNoRoom ? moves_of(input) : 0;
      bool again = error.kind() == ErrorKind::kNoRoom && moves != now;
      if (!again || !goes_on(input)) throw;
      input.lease.release();
      // Whoever is asked for the next disk may have to take this one out.
      if (input.options.next_disk) run->close_shelf();
      if (!has_next_disk(input, error)) throw;
      moves = now;
    }
    run.emplace(input, messages);
  }
}

// The run between its two commands.
void run_between_commands(RunInput& input, RunMessages& messages, RunReport& report) {
  const Job& job = input.job;
  Nanos began = steady_now();
  std::optional<BackupRun> run;
  run.emplace(input, messages);
  auto fail = [&](Outcome outcome, const Error& error) {
    run->fill(report);
    end_by(error, outcome, report);
    report.waits = error.worth_waiting();
    report.set.reset();
    report.suspect = false;
  };
  try {
    CommandResult before =
        run_command(job, CommandTime::kBefore, input.options.stop, input.observer, report);
    if (!before.ok) {
      input.check_stop();
      throw Error(
          ErrorKind::kFailed, "before_run.command failed: " + before.reason,
          "its output is in the log: kestrum history " + job.name + " --show " + report.run);
    }
    input.interval = usual_interval(input.machine, job, input.started);
    run_on_disks(run, input, messages);
    run->fill(report);
    bool warned = messages.warning_count() > 0;
    report.outcome = warned ? Outcome::kDoneWithWarnings : Outcome::kDone;
    report.exit = warned ? 1 : 0;
  } catch (const Error& error) {
    fail(error.kind() == ErrorKind::kStopped ? Outcome::kStopped : Outcome::kFailed, error);
  } catch (const SQLite::Exception& error) {
    fail(Outcome::kFailed, index_error(error));
  } catch (const std::exception& error) {  // from a library
    fail(Outcome::kFailed, Error(ErrorKind::kFailed, error.what()));
  }
  report.finished = input.clock.now();
  report.seconds = static_cast<double>(steady_now() - began) / kSecond;
  run->write_last_run(report);
  input.lease.release();
}

// Six parameters: those of run_backup(), and the report that it fills.
void run_locked(const MachineState& machine, const Job& job, const BackupOptions& given,
                const Clock& clock, Observer& watcher, RunReport& report) {
  JobLock lock(machine, job.name, "running");
  BackupOptions options = given;
  ShelfLease lease;
  options.stop = [&] {
    lease.beat();
    lock.wait_while_paused(given.stop);
    return (given.stop && given.stop()) || lock.asked_to_stop();
  };
  SleepInhibitor awake("backing up " + job.name);
  RunObserver observer(watcher, lock);
  RunMessages messages(observer, report.warnings);
  RunInput input{machine, job, options, clock, observer, lease, report.host, report.started};
  run_between_commands(input, messages, report);
  report.stopped_by_user = report.outcome == Outcome::kStopped && lock.asked_to_stop();
  // The shelf is closed by now, so that the command may unmount it. Only its time ends it.
  CommandResult after = run_command(job, CommandTime::kAfter, {}, watcher, report);
  if (after.ok) return;
  std::string failed = "after_run.command failed: " + after.reason;
  report.warn_after_end(failed);
  watcher.warning("", failed);
}

}  // namespace

RunReport run_backup(const MachineState& machine, const Job& job, const BackupOptions& options,
                     const Clock& clock, Observer& observer) {
  RunReport report;
  report.run = options.run;
  report.trigger = options.trigger;
  report.job = job.name;
  report.host = host_name();
  report.started = report.finished = clock.now();
  for (const std::string& warning : options.warnings) {
    report.add_warning("", warning);
    observer.warning("", warning);
  }
  auto body = [&] {
    std::optional<SessionGivesWay> session;
    try {
      if (job.low_priority) {
        lower_priority();
        session.emplace();
      }
      raise_open_file_limit();
      run_locked(machine, job, options, clock, observer, report);
    } catch (const Error& error) {
      end_by(error, error.kind() == ErrorKind::kBusy ? Outcome::kSkipped : Outcome::kFailed,
             report);
    } catch (const std::exception& error) {
      report.outcome = Outcome::kFailed;
      report.reason = error.what();
    }
  };
  // A priority that was lowered stays low: a thread of its own, so that only this run has it.
  if (job.low_priority) {
    std::thread(body).join();
  } else {
    body();
  }
  return report;
}

}  // namespace kestrum
