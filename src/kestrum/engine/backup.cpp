#include "kestrum/engine/backup.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <thread>

#include "kestrum/archive/set_writer.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/engine/job_command.h"
#include "kestrum/engine/job_lock.h"
#include "kestrum/engine/power.h"
#include "kestrum/engine/prune.h"
#include "kestrum/engine/rebuild_index.h"
#include "kestrum/engine/run_plan.h"
#include "kestrum/engine/set_builder.h"
#include "kestrum/place/throttled_place.h"
#include "kestrum/select/walk.h"
#include "kestrum/shelf/index.h"

namespace kestrum {
namespace {

// Counts what the walk will find, beside the run, so that progress has an end in sight.
class TotalsCounter {
 public:
  TotalsCounter(std::vector<std::string> roots, const Selection& selection)
      : thread_([this, roots = std::move(roots), &selection] {
          Walk walk(roots, selection);
          WalkEvent event;
          std::uint64_t files = 0, bytes = 0;
          while (!stop_ && walk.next(event)) {
            if (event.kind != WalkEvent::Kind::kEntry || S_ISDIR(event.st.st_mode)) continue;
            ++files;
            if (S_ISREG(event.st.st_mode)) bytes += static_cast<std::uint64_t>(event.st.st_size);
          }
          if (stop_) return;
          bytes_ = bytes;
          files_ = files;
        }) {}
  ~TotalsCounter() {
    stop_ = true;
    thread_.join();
  }
  std::uint64_t files() const { return files_; }
  std::uint64_t bytes() const { return bytes_; }

 private:
  std::atomic<bool> stop_ = false;
  std::atomic<std::uint64_t> files_ = 0, bytes_ = 0;
  std::thread thread_;
};

// Passes on to the caller's observer, adding totals, and tells the lock how far the run is.
class RunObserver : public Observer {
 public:
  RunObserver(Observer& next, JobLock& lock) : next_(next), lock_(lock) {}
  void count(const TotalsCounter* totals) { totals_ = totals; }
  void progress(const Progress& progress) override {
    Progress copy = progress;
    if (totals_ != nullptr) {
      copy.files_total = totals_->files();
      copy.bytes_total = totals_->bytes();
    }
    lock_.progress(fmt::format("{}: {}, {}", progress.phase, counted(progress.files_done, "file"),
                               format_size(progress.bytes_done)));
    next_.progress(copy);
  }
  bool wants_totals() const override { return next_.wants_totals(); }
  void warning(const std::string& path, const std::string& reason) override {
    next_.warning(path, reason);
  }
  void note(const std::string& text) override { next_.note(text); }
  void log(const std::string& text) override { next_.log(text); }

 private:
  Observer& next_;
  JobLock& lock_;
  const TotalsCounter* totals_ = nullptr;
};

class BackupRun {
 public:
  BackupRun(const MachineState& machine, const Job& job, const std::string& job_text,
            const BackupOptions& options, const Clock& clock, RunObserver& observer,
            RunReport& report)
      : machine_(machine),
        job_(job),
        job_text_(job_text),
        options_(options),
        clock_(clock),
        observer_(observer),
        report_(report) {}

  void run() {
    open_.emplace(find_shelf(machine_, job_, options_.on_place));
    report_.shelf_path = open_->path;
    check_clock(open_->shelf.label(), clock_);
    if (job_.encrypted != open_->shelf.label().recipient.has_value()) {
      throw Error(ErrorKind::kUsage,
                  fmt::format("protection.mode is \"{}\", but this shelf was started {}encrypted",
                              job_.encrypted ? "passphrase" : "none", job_.encrypted ? "un" : ""),
                  "start a shelf on another disk, or change protection.mode back");
    }
    Index index(open_->state->index_path());
    recover(index);
    decide(index, mend_index(index));
    build(index);
    prune(index);
    try {
      update_job_copy(*open_, job_text_);
    } catch (const Error& error) {  // the set is sealed all the same
      observer_.note("the copy of the job on the shelf was not brought up to date: " +
                     error.message());
    }
  }

  // Also of a failed run: what a look at many shelves reads.
  void write_last_run() {
    if (!open_) return;
    try {
      report_.shelf = summary_of(*open_);
      Json json = report_.to_json();
      json.erase("warnings");
      json["warnings"] = report_.warning_count;
      write_small(*open_->place, kLastRunFile, json.dump(2) + "\n");
    } catch (const Error& error) {
      observer_.note("last-run.json could not be written: " + error.message());
    }
  }

 private:
  // Finishes what a crash left half done.
  void recover(Index& index) {
    Shelf& shelf = open_->shelf;
    index.forget(shelf.removals());
    shelf.finish_renames();
    if (auto pending = index.pending()) {
      const ShelfSet* set = shelf.find(pending->set);
      if (set != nullptr && set->sealed() && set->seal.ledger_digest == pending->ledger_digest) {
        index.apply_pending(set->seal_digest);
        pin_newest(*set);
      } else {
        index.drop_pending();
      }
    }
    for (const std::string& folder : shelf.leftovers()) {
      observer_.note("an earlier run did not finish; what it left is removed: " + folder);
      open_->place->remove_folder(folder);
    }
    if (!shelf.leftovers().empty()) shelf.rescan();
  }

  void pin_newest(const ShelfSet& set) {
    open_->state->update_pin([&](Pin& pin) {
      pin.newest_set = set.id;
      pin.newest_seal = set.seal_digest;
      pin.highest_chain = std::max(pin.highest_chain, set.id.chain);
      if (set.seal.kind == SetKind::kFull) hold_what_it_lacks(pin, set);
    });
  }

  // A full set starts a chain without the files that could not be read: the last full set that has
  // them is held until they are back.
  void hold_what_it_lacks(Pin& pin, const ShelfSet& full) {
    auto lacks = [](const Seal& seal) { return seal.files.absent + seal.files.failed > 0; };
    if (!lacks(full.seal)) {
      if (full.seal.files.seen >= pin.held_files) pin.held_full.reset();
      return;
    }
    if (pin.held_full) return;
    for (const ShelfSet& set : open_->shelf.sets()) {
      if (!set.sealed() || set.seal.kind != SetKind::kFull || lacks(set.seal)) continue;
      pin.held_full = set.id;
      pin.held_files = set.seal.files.seen;
    }
  }

  // What no promise holds any more goes now that the new set is there. A removal that fails does
  // not undo the set.
  void prune(Index& index) {
    if (job_.when_full == WhenFull::kStop) return;
    try {
      PruneOptions options;
      options.stop = options_.stop;
      Nanos interval = usual_interval(machine_, job_, report_.started);
      PruneReport pruned =
          prune_shelf(*open_, job_, index, options, report_.started, interval, observer_);
      for (const PrunedSet& set : pruned.removed) report_.pruned.push_back(set.id.to_string());
      if (!pruned.clock_doubt.empty()) {
        report_.notes.push_back("nothing was pruned: " + pruned.clock_doubt);
        observer_.note(report_.notes.back());
      }
    } catch (const Error& error) {
      // When it was stopped, the next run goes on with it.
      if (error.kind() != ErrorKind::kStopped) warn("pruning failed: " + error.message());
    } catch (const std::exception& error) {  // from a library
      warn(std::string("pruning failed: ") + error.what());
    }
  }

  void warn(const std::string& reason) {
    ++report_.warning_count;
    report_.warnings.push_back({"", reason});
    observer_.warning("", reason);
  }

  // Nothing if the index knows what lies on the shelf, after a rebuild if need be; otherwise why
  // the next set must be full.
  std::optional<std::string> mend_index(Index& index) {
    Shelf& shelf = open_->shelf;
    const Pin& pin = open_->state->pin;
    if (pin.newest_set) {
      const ShelfSet* newest = shelf.find(*pin.newest_set);
      bool there = newest != nullptr && newest->sealed() && newest->seal_digest == pin.newest_seal;
      if (!there) {
        report_.notes.push_back(fmt::format(
            "{} is not on this shelf as this PC left it: the disk was rolled back, or the set is "
            "damaged; kestrum verify {}",
            pin.newest_set->to_string(), job_.name));
        observer_.note(report_.notes.back());
        if (newest == nullptr || !newest->sealed()) {
          return pin.newest_set->to_string() + " is missing or damaged on this shelf";
        }
      }
    }
    if (index_matches(shelf, index)) return std::nullopt;
    std::vector<Identity> identities;
    if (shelf.label().recipient) {
      std::optional<Secret> passphrase = options_.passphrase ? options_.passphrase() : std::nullopt;
      if (!passphrase) {
        report_.notes.push_back(
            "this PC's index does not match the shelf, so a full set is made; to continue the "
            "chain instead, run again with --passphrase-file");
        observer_.note(report_.notes.back());
        return "the index of this PC does not match the shelf";
      }
      identities = unlock_shelf(*open_, *passphrase).identities;
    }
    observer_.note("the index of this PC does not match the shelf; it is rebuilt");
    RebuildResult result = update_index(shelf, index, identities, observer_);
    for (const auto& problem : result.problems) observer_.note(problem);
    if (index_matches(shelf, index)) return std::nullopt;
    return "the index could not be rebuilt from the shelf";
  }

  void decide(Index& index, std::optional<std::string> must_be_full) {
    const Shelf& shelf = open_->shelf;
    PlanInput input;
    input.sets = shelf.facts();
    input.highest_chain = open_->state->pin.highest_chain;
    for (const ShelfSet& set : shelf.sets()) {
      input.highest_chain = std::max(input.highest_chain, set.id.chain);
    }
    input.wanted = options_.kind;
    input.must_be_full = std::move(must_be_full);
    input.now = report_.started;
    RunPlan plan = plan_run(job_, index, std::move(input));
    roots_ = std::move(plan.roots);
    next_ = plan.next;
    report_.set = next_.id;
    report_.kind = next_.kind;
    report_.based_on = next_.based_on;
    report_.why = next_.why;
    for (const auto& root : roots_.fresh) {
      report_.notes.push_back("a new folder matches: " + root);
      observer_.note(report_.notes.back());
    }

    builder_.set = next_.id;
    builder_.kind = next_.kind;
    builder_.roots = roots_.present;
    builder_.absent_roots = roots_.absent;
    builder_.reread = options_.reread;
    builder_.now = report_.started;
    builder_.compared_with = plan.compared_with;
    builder_.ancestors = std::move(plan.ancestors);
    bool any = std::any_of(roots_.present.begin(), roots_.present.end(),
                           [](const std::string& root) { return path_exists(root); });
    if (next_.kind == SetKind::kFull && !any) {
      throw Error(ErrorKind::kFailed, "none of the folders is there: " + job_.folders[0],
                  "kestrum job check " + job_.name);
    }
  }

  void build(Index& index) {
    std::optional<ThrottledPlace> throttled;
    if (job_.rate_limit) throttled.emplace(*open_->place, *job_.rate_limit, options_.stop);
    Place& place = throttled ? static_cast<Place&>(*throttled) : *open_->place;
    Selection selection(job_.rules, own_folders(machine_, open_->path));
    std::string folder = std::string(kSetsFolder) + "/" +
                         set_folder_name(next_.id, report_.started) +
                         std::string(kUnfinishedSuffix);
    Packing packing{job_.level, open_->shelf.label().recipient};
    ReadBack read_back = options_.no_verify ? ReadBack::kOff : job_.verify;
    place.make_folder(folder);
    try {
      Seal seal;
      {
        std::optional<TotalsCounter> totals;
        if (observer_.wants_totals()) {
          totals.emplace(roots_.present, selection);
          observer_.count(&*totals);
        }
        SetWriter writer(place, folder,
                         {packing, job_.part_size, read_back, worker_threads(job_.low_priority)});
        index.journal_start();
        SetBuilder builder(builder_, selection, index, writer, report_, observer_, options_.stop);
        builder.build();
        observer_.count(nullptr);
        observer_.progress({"finishing", report_.files.seen, 0, report_.bytes.seen, 0, ""});
        seal.parts = writer.finish();
      }
      write_ledger(place, index, folder, packing, seal);
      if (options_.stop && options_.stop()) throw Error(ErrorKind::kStopped, "stopped");
      commit(index, folder, read_back, seal);
    } catch (...) {
      index.roll_back();
      discard(folder);
      throw;
    }
  }

  void discard(const std::string& folder) {
    try {
      if (open_->place->exists(folder)) open_->place->remove_folder(folder);
    } catch (const Error&) {
      // The next run finds and removes it.
    }
  }

  void write_ledger(Place& place, Index& index, const std::string& folder, const Packing& packing,
                    Seal& seal) {
    seal.ledger_name = std::string("ledger.jsonl") + packing.suffix();
    std::string path = folder + "/" + seal.ledger_name;
    LedgerHeader header{open_->shelf.label().shelf,
                        next_.id,
                        next_.kind,
                        next_.based_on,
                        roots_.present,
                        report_.started,
                        report_.started};
    LedgerWriter ledger(place, path, packing, header);
    index.each_journal([&](const IndexEntry& entry) {
      if (!entry.index_only) ledger.add(entry.line);
    });
    ledger.close();
    seal.ledger_bytes = ledger.file().size();
    seal.ledger_digest = ledger.file().digest();
    if (!options_.no_verify && job_.verify != ReadBack::kOff) {
      read_back(*open_->place, path, seal.ledger_bytes, seal.ledger_digest);
    }
  }

  void commit(Index& index, const std::string& folder, ReadBack read_back, Seal& seal) {
    Shelf& shelf = open_->shelf;
    report_.bytes.stored = seal.ledger_bytes;
    for (const PartInfo& part : seal.parts) report_.bytes.stored += part.bytes;
    seal.shelf = shelf.label().shelf;
    seal.set = next_.id;
    seal.kind = next_.kind;
    seal.based_on = next_.based_on;
    seal.begun = seal.started = report_.started;
    seal.finished = clock_.now();
    seal.host = report_.host;
    seal.program = KESTRUM_VERSION;
    seal.outcome =
        outcome_name(report_.warning_count > 0 ? Outcome::kDoneWithWarnings : Outcome::kDone);
    seal.verified = read_back == ReadBack::kOff     ? "no"
                    : read_back == ReadBack::kParts ? "parts"
                                                    : "contents";
    seal.encrypted = shelf.label().recipient.has_value();
    seal.compressed = job_.level != CompressionLevel::kOff;
    seal.files = report_.files;
    seal.bytes = report_.bytes;
    if (next_.based_on) seal.base_seal = shelf.find(*next_.based_on)->seal_digest;
    if (const ShelfSet* newest = shelf.newest()) seal.previous_seal = newest->seal_digest;
    std::uint64_t seal_bytes = seal.to_json().size();
    report_.bytes.stored += seal_bytes;
    seal.bytes.stored = report_.bytes.stored;

    index.set_pending({next_.id,
                       next_.kind,
                       next_.based_on,
                       report_.started,
                       roots_.present,
                       {},
                       seal.ledger_digest});
    open_->place->sync_folder(folder);
    Digest digest = shelf.commit(seal, open_->state->signing_key(), folder);
    index.apply_pending(digest);
    pin_newest(*shelf.find(next_.id));
  }

  const MachineState& machine_;
  const Job& job_;
  const std::string& job_text_;
  const BackupOptions& options_;
  const Clock& clock_;
  RunObserver& observer_;
  RunReport& report_;
  std::optional<OpenShelf> open_;
  Roots roots_;
  NextSet next_;
  SetBuilderInput builder_;
};

// What `before` and `after` are told.
std::map<std::string, std::string> command_environment(const RunReport& report, const char* when) {
  std::map<std::string, std::string> variables = {{"KESTRUM_JOB", report.job},
                                                  {"KESTRUM_HOST", report.host},
                                                  {"KESTRUM_RUN", report.run},
                                                  {"KESTRUM_WHEN", when}};
  if (std::string_view(when) == "before") return variables;
  variables["KESTRUM_OUTCOME"] = outcome_name(report.outcome);
  variables["KESTRUM_EXIT"] = std::to_string(report.exit);
  variables["KESTRUM_REASON"] = report.reason;
  variables["KESTRUM_SET"] = report.set ? report.set->to_string() : "";
  variables["KESTRUM_KIND"] = report.set ? kind_name(*report.kind) : "";
  variables["KESTRUM_SHELF"] = report.shelf_path;
  const FileCounts& f = report.files;
  for (auto [name, count] : {std::pair{"SEEN", f.seen},
                             {"COPIED", f.copied},
                             {"MOVED", f.moved},
                             {"SAME", f.same},
                             {"GONE", f.gone},
                             {"ABSENT", f.absent},
                             {"LEFT_OUT", f.left_out},
                             {"FAILED", f.failed}}) {
    variables[std::string("KESTRUM_FILES_") + name] = std::to_string(count);
  }
  variables["KESTRUM_BYTES_COPIED"] = std::to_string(report.bytes.copied);
  variables["KESTRUM_BYTES_STORED"] = std::to_string(report.bytes.stored);
  variables["KESTRUM_WARNINGS"] = std::to_string(report.warning_count);
  return variables;
}

// One of the job's own commands; its output goes to the log.
CommandResult run_command(const Job& job, const std::string& command, const char* when,
                          const StopRequest& stop, Observer& observer, const RunReport& report) {
  if (command.empty()) return {true, ""};
  observer.progress({std::string("command ") + when, 0, 0, 0, 0, ""});
  observer.log(fmt::format("command {}: {}", when, command));
  CommandResult result =
      run_job_command(command, command_environment(report, when), job.command_limit, stop,
                      [&](const std::string& line) { observer.log("  " + line); });
  if (!result.ok) observer.log(fmt::format("command {}: {}", when, result.reason));
  return result;
}

// The run between its two commands.
void run_between_commands(const MachineState& machine, const Job& job, const std::string& job_text,
                          const BackupOptions& options, const Clock& clock, Observer& observer,
                          JobLock& lock, RunReport& report) {
  auto fail = [&](Outcome outcome, const Error& error) {
    report.outcome = outcome;
    report.exit = error.exit_code();
    report.reason = error.message();
    report.hint = error.hint();
    report.waits = error.worth_waiting();
    report.set.reset();
  };
  Nanos began = steady_now();
  RunObserver run_observer(observer, lock);
  BackupRun run(machine, job, job_text, options, clock, run_observer, report);
  try {
    CommandResult before =
        run_command(job, job.before, "before", options.stop, run_observer, report);
    if (!before.ok && options.stop && options.stop()) throw Error(ErrorKind::kStopped, "stopped");
    if (!before.ok) {
      throw Error(
          ErrorKind::kFailed, "commands.before failed: " + before.reason,
          "its output is in the log: kestrum history " + job.name + " --show " + report.run);
    }
    run.run();
    report.outcome = report.warning_count > 0 ? Outcome::kDoneWithWarnings : Outcome::kDone;
    report.exit = report.warning_count > 0 ? 1 : 0;
  } catch (const Error& error) {
    fail(error.kind() == ErrorKind::kStopped ? Outcome::kStopped : Outcome::kFailed, error);
  } catch (const std::exception& error) {  // from a library
    fail(Outcome::kFailed, Error(ErrorKind::kFailed, error.what()));
  }
  report.finished = clock.now();
  report.seconds = static_cast<double>(steady_now() - began) / kSecond;
  run.write_last_run();
}

void run_locked(const MachineState& machine, const Job& job, const std::string& job_text,
                const BackupOptions& given, const Clock& clock, Observer& observer,
                RunReport& report) {
  JobLock lock(machine, job.name, "running");
  BackupOptions options = given;
  options.stop = [&] { return (given.stop && given.stop()) || lock.asked_to_stop(); };
  SleepInhibitor awake("backing up " + job.name);
  run_between_commands(machine, job, job_text, options, clock, observer, lock, report);
  report.stopped_by_user = report.outcome == Outcome::kStopped && lock.asked_to_stop();
  // The shelf is closed by now, so that the command may unmount it. Only its time ends it.
  CommandResult after = run_command(job, job.after, "after", {}, observer, report);
  if (after.ok) return;
  ++report.warning_count;
  report.warnings.push_back({"", "commands.after failed: " + after.reason});
  observer.warning("", report.warnings.back().reason);
  if (report.outcome == Outcome::kDone) {
    report.outcome = Outcome::kDoneWithWarnings;
    report.exit = 1;
  }
}

}  // namespace

void run_backup(const MachineState& machine, const Job& job, const std::string& job_text,
                const BackupOptions& options, const Clock& clock, Observer& observer,
                RunReport& report) {
  report.job = job.name;
  report.host = host_name();
  report.started = report.finished = clock.now();
  auto body = [&] {
    try {
      if (job.low_priority) lower_priority();
      raise_open_file_limit();
      run_locked(machine, job, job_text, options, clock, observer, report);
    } catch (const Error& error) {
      report.outcome = error.kind() == ErrorKind::kBusy ? Outcome::kSkipped : Outcome::kFailed;
      report.exit = error.exit_code();
      report.reason = error.message();
      report.hint = error.hint();
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
}

}  // namespace kestrum
