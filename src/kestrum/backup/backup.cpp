#include "kestrum/backup/backup.h"

#include <fmt/format.h>

#include <algorithm>
#include <thread>

#include "kestrum/access/known_damage.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/access/start_shelf.h"
#include "kestrum/access/unlock.h"
#include "kestrum/archive/set_writer.h"
#include "kestrum/backup/continuation.h"
#include "kestrum/backup/expected_changes.h"
#include "kestrum/backup/prune.h"
#include "kestrum/backup/recovery.h"
#include "kestrum/backup/run_observer.h"
#include "kestrum/backup/run_plan.h"
#include "kestrum/backup/set_builder.h"
#include "kestrum/backup/set_commit.h"
#include "kestrum/backup/space_reclaimer.h"
#include "kestrum/base/file.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/job_lock.h"
#include "kestrum/machine/own_folders.h"
#include "kestrum/place/reclaiming_place.h"
#include "kestrum/place/throttled_place.h"
#include "kestrum/system/power.h"
#include "kestrum/system/run_commands.h"

namespace kestrum {
namespace {

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
    try {
      run_on_shelf();
    } catch (const Error& error) {
      Error told = named_if_lost(*open_, error);
      lost_ = told.worth_waiting();
      throw told;
    }
  }

  // Also of a failed run: what a look at many shelves reads.
  void write_last_run() {
    if (!open_ || lost_) return;
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
  void run_on_shelf() {
    if (!open_->instead_of.empty()) {
      note("the disk is not where it was: found at " + open_->path + " instead of " +
           open_->instead_of);
    }
    interval_ = usual_interval(machine_, job_, report_.started);
    report_.shelf_path = open_->path;
    check_clock(open_->shelf.label(), clock_);
    if (job_.encrypted != open_->shelf.label().recipient.has_value()) {
      throw Error(ErrorKind::kUsage,
                  fmt::format("protection.mode is \"{}\", but this shelf was started {}encrypted",
                              job_.encrypted ? "passphrase" : "none", job_.encrypted ? "un" : ""),
                  "start a shelf on another disk, or change protection.mode back");
    }
    Index index(open_->state->index_path());
    recover_shelf(*open_, index);
    tell_change();
    tell_damage();
    decide(index, mend_index(index));
    build(index);
    if (!remembered_) return;  // who does not know what is there removes nothing
    warn_of_suspects();
    prune(index);
    try {
      update_job_copy(*open_, job_text_);
    } catch (const Error& error) {  // the set is sealed all the same
      observer_.note("the copy of the job on the shelf was not brought up to date: " +
                     error.message());
    }
  }

  // What the run that did not finish left: gone on with, or removed.
  void look_for_continuation(Index& index, const Packing& packing) {
    BegunSet wanted{
        plan_.next.kind, plan_.next.based_on, "", 0, packing_word(packing, job_.part_size), {}};
    auto found = find_continuation(*open_, index, wanted, options_.stop, observer_);
    kept_ = std::move(found.use);
    Shelf& shelf = open_->shelf;
    for (const std::string& folder : shelf.leftovers()) {
      if (kept_ && folder == kept_->folder) continue;
      note("an earlier run did not finish" +
           (found.refused.empty() ? "" : "; it cannot be gone on with: " + found.refused) +
           "; what it left is removed: " + folder);
      if (!shelf.discard(folder)) note("it has been sealed meanwhile, and stays: " + folder);
    }
    if (!kept_) return;
    report_.continued = true;
    note(fmt::format("the run of {} is gone on with: {} ({}) are kept", format_local(kept_->begun),
                     counted(kept_->parts.size(), "part"), format_size(kept_->bytes())));
    index.carry_over(kept_->parts.back().complete_until());
  }

  // The job's file may have been edited by hand since the last set.
  void tell_change() {
    std::string path = open_->state->folder() + "/job.toml";
    if (!path_exists(path)) return;
    ParsedJob before = parse_job(job_.name, read_file(path));
    if (!before.usable()) return;
    std::string meaning = change_in_words(before.job, job_);
    if (!meaning.empty()) note("the job changed since the last set: " + meaning);
  }

  // Nothing that is missing on the shelf goes unnoticed until it is needed.
  void tell_damage() {
    for (const ShelfSet& set : open_->shelf.sets()) {
      if (!set.unreadable) continue;
      std::string verify = "kestrum verify " + job_.name;
      if (knows_unreadable(open_->state->record.damage, set)) {
        note(set.problem + "; its chain stays as it is: " + verify);
      } else {
        warn(set.problem + "; nothing is pruned until it was looked at: " + verify);
      }
    }
    for (const KnownDamage& damage : look_over(*open_)) {
      warn(in_words(damage) + ": damage on the disk; kestrum verify " + job_.name);
    }
  }

  // What lay in damaged parts is in this set again, or nothing leans on them any more.
  void tell_mended(const SetBuilder& builder) {
    if (builder.stored_anew() > 0) {
      note(counted(builder.stored_anew(), "file") +
           " that lay in damaged parts of earlier sets are stored anew");
    }
    if (builder.still_lost() > 0) {
      warn(counted(builder.still_lost(), "file") +
           " lie in damaged parts of earlier sets, and could not be read now to store them anew");
    }
    // A full set says nothing of what could not be read for it.
    bool lacks =
        plan_.next.kind == SetKind::kFull && report_.files.absent + report_.files.failed > 0;
    mends_ = builder.still_lost() == 0 && !lacks;
  }

  // Said at every run until somebody has looked.
  void warn_of_suspects() {
    const ShelfSet* first = open_->shelf.first_suspect();
    std::optional<SetId> since = first == nullptr ? std::nullopt : std::optional(first->id);
    if (since != open_->state->record.suspect_since) {
      open_->state->update_record([&](ShelfRecord& record) { record.suspect_since = since; });
    }
    if (first == nullptr) return;
    report_.suspect_since = first->id;
    warn(first->id.to_string() + " is SUSPECT: " + first->seal.suspect_why);
  }

  // What no promise holds any more goes now that the new set is there. A removal that fails does
  // not undo the set.
  void prune(Index& index) {
    if (job_.when_full == WhenFull::kStop) return;
    try {
      PruneOptions options;
      options.stop = options_.stop;
      options.break_promises = job_.when_full == WhenFull::kPruneDeeper;
      PruneReport pruned =
          prune_shelf(*open_, job_, &index, options, report_.started, interval_, observer_);
      for (const PrunedSet& set : pruned.removed) {
        report_.pruned.push_back(set.id.to_string());
        if (!set.broke.empty()) note("restore point lost: " + set.lost_in_words());
      }
      if (!pruned.blocked_by.empty() && !told_what_holds()) note(pruned.blocked_by);
      for (const auto& wish : pruned.unmet) note(wish + "; " + pruned.holds);
    } catch (const Error& error) {
      // When it was stopped, the next run goes on with it.
      if (error.kind() != ErrorKind::kStopped) warn("pruning failed: " + error.message());
    } catch (const std::exception& error) {  // from a library
      warn(std::string("pruning failed: ") + error.what());
    }
  }

  // Each of these has a warning of its own, which says that nothing is pruned.
  bool told_what_holds() const {
    const Shelf& shelf = open_->shelf;
    const std::vector<KnownDamage>& damage = open_->state->record.damage;
    return shelf.first_suspect() != nullptr ||
           std::any_of(shelf.sets().begin(), shelf.sets().end(), [&](const ShelfSet& set) {
             return set.unreadable && !knows_unreadable(damage, set);
           });
  }

  void note(const std::string& text) {
    report_.notes.push_back(text);
    observer_.note(text);
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
    const ShelfRecord& record = open_->state->record;
    if (record.newest.set) {
      const ShelfSet* newest = shelf.find(*record.newest.set);
      bool there =
          newest != nullptr && newest->sealed() && newest->seal_digest == record.newest.seal;
      if (!there) {
        note(fmt::format(
            "{} is not on this shelf as this PC left it: the disk was rolled back, or the set is "
            "damaged; kestrum verify {}",
            record.newest.set->to_string(), job_.name));
        if (newest == nullptr || !newest->sealed()) {
          return record.newest.set->to_string() + " is missing or damaged on this shelf";
        }
      }
    }
    if (index_matches(shelf, index)) return std::nullopt;
    if (const ShelfSet* newest = shelf.newest();
        newest != nullptr && record.newest.set && *record.newest.set < newest->id) {
      note(fmt::format("this PC was set back: it wrote {} on {}, and remembers nothing behind {}",
                       newest->id.to_string(), format_local(newest->seal.started),
                       record.newest.set->to_string()));
    }
    std::vector<Identity> identities;
    if (shelf.label().recipient) {
      std::optional<Secret> passphrase = options_.passphrase ? options_.passphrase() : std::nullopt;
      if (!passphrase) {
        note(
            "this PC's index does not match the shelf, so a full set is made; to continue the "
            "chain instead, run again with --passphrase-file");
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
    PlanInput input = plan_input(*open_, index);
    input.wanted = options_.kind;
    if (must_be_full) input.must_be_full = std::move(must_be_full);
    damage_ = open_->state->record.damage;
    input.now = report_.started;
    plan_ = plan_run(job_, index, std::move(input));
    const Roots& roots = plan_.roots;
    const NextSet& next = plan_.next;
    report_.set = next.id;
    report_.kind = next.kind;
    report_.based_on = next.based_on;
    report_.why = next.why;
    for (const auto& root : roots.fresh) note("a new folder matches: " + root);

    bool any = std::any_of(roots.present.begin(), roots.present.end(),
                           [](const std::string& root) { return path_exists(root); });
    if (next.kind == SetKind::kFull && !any) {
      throw Error(ErrorKind::kFailed, "none of the folders is there: " + job_.folders[0],
                  "kestrum job check " + job_.name);
    }
  }

  void build(Index& index) {
    Selection selection(job_.rules, own_folders(machine_, open_->path));
    Packing packing{job_.level, open_->shelf.label().recipient};
    look_for_continuation(index, packing);
    SpaceReclaimer room(*open_, job_, plan_.next.based_on, report_.started, interval_,
                        options_.stop, observer_, [&] {
                          std::uint64_t whole =
                              expected_bytes(machine_, job_, plan_, selection, index,
                                             report_.started, options_.stop, observer_);
                          return whole - std::min(whole, kept_ ? kept_->bytes() : 0);
                        });
    ReclaimingPlace reclaiming(*open_->place, [&] { return room.during(); });
    std::string folder = std::string(kSetsFolder) + "/" +
                         set_folder_name(plan_.next.id, report_.started) +
                         std::string(kUnfinishedSuffix);
    auto tell_pruned = [&] {
      for (const PrunedSet& set : room.removed()) {
        report_.pruned.push_back(set.id.to_string());
        try {
          index.forget({set.id});
        } catch (const SQLite::Exception&) {
          // The next run sees that it is gone.
        }
      }
    };
    try {
      room.before();
      write_set(index, selection, reclaiming, room, folder, packing);
      tell_pruned();
    } catch (const Error& error) {
      give_up(index, folder);
      tell_pruned();
      if (error.kind() != ErrorKind::kNoRoom) throw;
      throw room.explain(reclaiming.written());
    } catch (...) {
      give_up(index, folder);
      tell_pruned();
      throw;
    }
  }

  // Keeps the parts that last, for the next run.
  void give_up(Index& index, const std::string& folder) {
    try {
      index.roll_back();
      // Whether the set was sealed, and lasts, nobody can say now. The next run goes by what it
      // finds, and needs all of it.
      if (index.pending() || open_->place->exists(folder + "/" + kSealFile)) return;
      auto begun = index.begun();
      std::vector<ClosedPart> parts = begun ? begun->parts : std::vector<ClosedPart>{};
      if (!parts.empty()) {
        report_.kept_parts = parts.size();
        report_.kept_bytes = bytes_of(parts);
        remove_all_but(*open_->place, folder, parts);
        return;
      }
      if (open_->place->exists(folder)) open_->shelf.discard(folder);
      index.drop_begun();
    } catch (const std::exception&) {
      // The next run finds what is left and decides.
    }
  }

  // The folder of the set being written. What an interrupted run left moves there.
  void open_folder(Index& index, const std::string& folder, const Packing& packing) {
    BegunSet begun{plan_.next.kind,
                   plan_.next.based_on,
                   folder,
                   kept_ ? kept_->begun : report_.started,
                   packing_word(packing, job_.part_size),
                   kept_ ? kept_->parts : std::vector<ClosedPart>{}};
    if (kept_ && kept_->folder != folder) {
      open_->place->rename(kept_->folder, folder);
      open_->place->sync_folder(kSetsFolder);
    }
    open_->place->make_folder(folder);
    if (kept_) remove_all_but(*open_->place, folder, kept_->parts);
    index.journal_start(begun);
  }

  void write_set(Index& index, const Selection& selection, ReclaimingPlace& reclaiming,
                 SpaceReclaimer& room, const std::string& folder, const Packing& packing) {
    std::optional<ThrottledPlace> throttled;
    if (job_.rate_limit) throttled.emplace(reclaiming, *job_.rate_limit, options_.stop);
    Place& place = throttled ? static_cast<Place&>(*throttled) : reclaiming;
    ReadBack read_back = options_.no_verify ? ReadBack::kOff : job_.verify;
    open_folder(index, folder, packing);
    SetCommit set(*open_, index, plan_, folder, packing, read_back, report_);
    {
      std::optional<TotalsCounter> totals;
      if (observer_.wants_totals()) {
        totals.emplace(plan_.roots.present, selection);
        observer_.count(&*totals);
      }
      SetBuilderInput input{plan_, options_.reread, report_.started, std::nullopt};
      if (kept_) input.cut = kept_->parts.back().cut;
      SetWriter writer(place, folder,
                       {packing, job_.part_size, read_back, worker_threads(job_.low_priority),
                        kept_ ? kept_->parts : std::vector<ClosedPart>{}, options_.stop,
                        [&](const std::vector<ClosedPart>& parts) { index.checkpoint(parts); }});
      SetBuilder builder(input, selection, index, writer, report_, observer_, options_.stop);
      try {
        builder.build();
        observer_.count(nullptr);
        tell_mended(builder);
        if (kept_) set.goes_on_with(kept_->begun, kept_->bytes(), builder.carried_bytes());
        if (auto why = suspicion(builder.changes(), job_.suspect_percent, options_.accept_empty)) {
          report_.suspect = true;
          report_.suspect_why = *why;
        }
        observer_.progress({"finishing", report_.files.seen, 0, report_.bytes.seen, 0, ""});
        set.parts = writer.finish();
      } catch (const Error& error) {
        writer.give_up(error.kind() == ErrorKind::kStopped);
        throw;
      }
    }
    set.write_ledger(place);
    if (options_.stop && options_.stop()) throw Error(ErrorKind::kStopped, "stopped");
    set.seal(clock_, room);
    remember(set);
  }

  // From here on the set is there, whatever else happens.
  void remember(SetCommit& set) {
    auto not_noted = [&](const Error& why) {
      warn(
          fmt::format("{} is sealed, but this PC could not take note of it ({}); the next run "
                      "does, once that is mended",
                      plan_.next.id.to_string(), why.message()));
    };
    try {
      set.remember();
      if (mends_) mark_mended(*open_, plan_.next.id, damage_);
      remembered_ = true;
    } catch (const Error& error) {
      not_noted(error);
    } catch (const SQLite::Exception& error) {
      not_noted(index_error(error));
    }
  }

  const MachineState& machine_;
  const Job& job_;
  const std::string& job_text_;
  const BackupOptions& options_;
  const Clock& clock_;
  RunObserver& observer_;
  RunReport& report_;
  std::optional<OpenShelf> open_;
  RunPlan plan_;
  std::optional<Continuation> kept_;  // of the run that did not finish
  std::vector<KnownDamage> damage_;   // that was known when it was decided what to store
  bool mends_ = false;                // the set leans on none of it
  bool remembered_ = false;           // the index and the record know of the new set
  bool lost_ = false;                 // the disk went away
  Nanos interval_ = 0;                // of the schedule
};

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
    report.suspect = false;
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
  } catch (const SQLite::Exception& error) {
    fail(Outcome::kFailed, index_error(error));
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
