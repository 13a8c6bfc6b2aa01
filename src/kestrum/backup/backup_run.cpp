#include "kestrum/backup/backup_run.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "kestrum/access/known_damage.h"
#include "kestrum/access/next_disk.h"
#include "kestrum/access/other_disks.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/access/start_shelf.h"
#include "kestrum/backup/prune.h"
#include "kestrum/backup/recovery.h"
#include "kestrum/backup/run_preparation.h"
#include "kestrum/backup/set_commit.h"
#include "kestrum/backup/source_snapshots.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/own_folders.h"
#include "kestrum/machine/run_records.h"
#include "kestrum/place/beside.h"
#include "kestrum/place/reclaiming_place.h"
#include "kestrum/place/throttled_place.h"
#include "kestrum/plan/expected_changes.h"
#include "kestrum/plan/moved_folder.h"

namespace kestrum {
namespace {

constexpr unsigned kSearchedAtMost = 3;          // folders that are away, by one run
constexpr std::uint64_t kTooLittle = 1'000'000;  // bytes with which no run gets anywhere

bool has_no_room(Place& place) {
  auto room = place.room();
  return room && room->free < kTooLittle;
}

}  // namespace

void BackupRun::run() {
  remove_left_over_snapshots(input_.machine, input_.job.name, messages_);
  open_.emplace(find_disk(input_, messages_));
  try {
    run_on_shelf();
  } catch (const Error& error) {
    // Of a disk that was full from the start.
    bool goes_on = error.kind() == ErrorKind::kNoRoom && input_.job.when_full == WhenFull::kAsk &&
                   open_->state->record.full.since == 0 && has_no_room(*open_->place);
    if (goes_on) throw left_disk(std::nullopt);
    Error told = named_if_lost(*open_, error);
    shelf_was_lost_ = told.worth_waiting();
    throw told;
  }
}

void BackupRun::run_on_shelf() {
  check_shelf(input_, *open_);
  input_.lease.take(input_.machine, *open_, input_.options.stop, input_.observer);
  Index index(open_->state->index_path());
  recover_shelf(*open_, index);
  set_back_ = why_set_back(input_.machine, *open_);
  catch_up_head();
  examine_shelf(input_, *open_, messages_);
  auto must_be_full = bring_index_up_to_date(input_, *open_, set_back_, index, messages_);
  plan_ = decide_plan(input_, *open_, index, std::move(must_be_full), messages_);
  check_plan(input_, *plan_);
  // Written while files are read where a server is far away, else at the end.
  auto job_copy =
      beside_if_far(*open_->place, [&] { update_job_copy(*open_, input_.options.job_text); });
  try {
    make_set(index);
  } catch (const Error& error) {
    bool other_disk = input_.job.when_full == WhenFull::kAsk;
    if (error.kind() != ErrorKind::kNoRoom || !plan_->next.merely_due || other_disk) throw;
    make_smaller_set(index, error);
  }
  note_away(index);
  if (!remembered_) return;  // who does not know what is there removes nothing
  warn_of_suspects();
  prune(index);
  try {
    job_copy.get();
  } catch (const Error& error) {  // the set is sealed all the same
    messages_.mention("the copy of the job on the shelf was not brought up to date: " +
                      error.message());
  }
}

// ---- build, commit

// The newest state is what people want back: a full set that is merely due, and does not fit, gives
// way to a dependent one.
void BackupRun::make_smaller_set(Index& index, const Error& why) {
  std::string due = plan_->next.why;
  plan_ = decide_smaller_plan(input_, *open_, index);
  check_plan(input_, *plan_);
  messages_.warn(
      fmt::format("a full set is due ({}), but it does not fit, and this one is {}: {}; {}", due,
                  kind_name(plan_->next.kind), why.message(), why.hint()));
  make_set(index);
}

std::optional<std::vector<Lacking>> BackupRun::lacking_after(Index& index,
                                                             const UnreadPaths& unread) {
  std::set<std::string> told(unread.paths().begin(), unread.paths().end());
  return lacking_now(index, plan_->owed, unread, plan_->roots,
                     [&](const std::string& path, bool mounted) {
                       if (told.insert(path).second) {
                         built_.away.push_back("/" + path);
                         messages_.warn("/" + path, mounted ? kDiskHides : kDiskIsAway);
                       }
                     });
}

// The set goes on on another disk: what to tell of it.
Error BackupRun::left_disk(const std::optional<std::string>& unfinished) {
  leave_full_disk(*open_, unfinished, calendar_now());
  return full_disk(input_.job, *open_->state);
}

// They are there for as long as files are read.
BuiltSet BackupRun::build_from_snapshots(SetBuild& build, Place& place,
                                         const Selection& selection) {
  SourceSnapshots snapshots(input_.machine, input_.job, plan_->roots.present, messages_);
  return build.build(place, selection, snapshots.view());
}

void BackupRun::make_set(Index& index) {
  const Job& job = input_.job;
  Selection selection(job.rules, own_folders(input_.machine, open_->path));
  SetBuild build(input_, *open_, index, *plan_, messages_);
  build.continue_or_discard();
  continued_ = build.continued().has_value();
  SpaceReclaimer room(input_, *open_, index, plan_->next.based_on, [&] {
    ExpectedChanges changes = expected_changes(
        *plan_, selection, index, {input_.started, {}, {}, input_.options.stop}, input_.observer);
    std::uint64_t stored = estimate_run(input_.machine, job, changes, true).stored;
    return stored - std::min(stored, build.kept_bytes());
  });
  const SetCommit* committing = nullptr;
  ReclaimingPlace reclaiming(*open_->place, [&] {
    if (committing != nullptr) committing->wait_for_index();
    return room.during();
  });
  std::optional<ThrottledPlace> throttled;
  if (job.rate_limit) throttled.emplace(reclaiming, *job.rate_limit, input_.options.stop);
  Place& place = throttled ? static_cast<Place&>(*throttled) : reclaiming;
  auto end = [&] {
    committing = nullptr;
    built_ = build.result();
    kept_ = build.give_up();
    forget_pruned(index, room);
  };
  try {
    room.before(plan_->next.merely_due);
    BuiltSet built = build_from_snapshots(build, place, selection);
    built_ = built.result;
    suspicion_ = built.suspicion;
    SetCommit commit(input_, *open_, index, *plan_, built);
    committing = &commit;
    commit.write_ledger(place, lacking_after(index, built.result.unread));
    commit.tell_files(messages_.observer());
    input_.check_stop();
    commit.seal(room, messages_.warning_count() > 0);
    stored_bytes_ = commit.stored_bytes();
    warn_of_head();
    remember(commit, built.mends_damage);
  } catch (const Error& error) {
    end();
    if (error.kind() != ErrorKind::kNoRoom) throw;
    bool full = room.disk_was_full() || has_no_room(*open_->place);
    if (job.when_full != WhenFull::kAsk || !full) throw room.explain(reclaiming.written());
    throw left_disk(kept_.parts > 0 ? std::optional(build.folder()) : std::nullopt);
  } catch (...) {
    end();
    throw;
  }
  forget_pruned(index, room);
}

// From here on the set is there, whatever else happens.
void BackupRun::remember(SetCommit& commit, bool mends_damage) {
  auto not_noted = [&](const Error& why) {
    messages_.warn(
        fmt::format("{} is sealed, but this PC could not take note of it ({}); the next run does, "
                    "once that is mended",
                    plan_->next.id.to_string(), why.message()));
  };
  try {
    commit.remember();
    if (mends_damage) mark_mended(*open_, plan_->next.id, plan_->known_damage);
    remembered_ = true;
  } catch (const Error& error) {
    not_noted(error);
  } catch (const SQLite::Exception& error) {
    not_noted(index_error(error));
  }
}

void BackupRun::forget_pruned(Index& index, const SpaceReclaimer& room) {
  for (const PrunedSet& set : room.removed()) {
    pruned_.push_back(set.id.to_string());
    try {
      index.forget({set.id});
    } catch (const SQLite::Exception&) {
      // The next run sees that it is gone.
    }
  }
}

// A run may have ended between a seal and its head.
void BackupRun::catch_up_head() {
  if (set_back_) return;
  open_->shelf.catch_up_head(heads_of_others(input_.machine, *open_), input_.started,
                             open_->state->signing_key());
  warn_of_head();
}

void BackupRun::warn_of_head() {
  const std::string& problem = open_->shelf.head_problem();
  if (problem.empty()) return;
  messages_.warn("the shelf's head cannot be written (" + problem +
                 "): should the disk be set back, another PC would not notice");
}

// Since when what is away has been, as far as the run before knew, and where it may be.
void BackupRun::note_away(Index& index) {
  std::vector<AwayFolder> before = last_away(RunRecords(input_.machine, input_.job.name));
  away_.emplace();
  unsigned searches = 0;
  for (const std::string& path : built_.away) {
    AwayFolder folder{path, input_.started, ""};
    for (const AwayFolder& known : before) {
      if (known.path != path) continue;
      folder.since = known.since;
      if (!known.may_be_at.empty() && is_named_folder(known.may_be_at)) {
        folder.may_be_at = known.may_be_at;
      }
    }
    bool search = folder.may_be_at.empty() && plan_->compared_with;
    if (search && searches++ < kSearchedAtMost) {
      folder.may_be_at =
          find_moved(path, names_in(index, *plan_->compared_with, path), input_.options.stop)
              .value_or("");
    }
    if (!folder.may_be_at.empty()) {
      messages_.note(path + " may be at " + folder.may_be_at + " now");
    }
    away_->push_back(std::move(folder));
  }
}

// ---- prune

// Said at every run until somebody has looked.
void BackupRun::warn_of_suspects() {
  const ShelfSet* first = open_->shelf.first_suspect();
  if (first != nullptr) suspect_since_ = first->id;
  if (suspect_since_ != open_->state->record.suspect_since) {
    open_->state->update_record(
        [&](ShelfRecord& record) { record.suspect_since = suspect_since_; });
  }
  if (first == nullptr) return;
  messages_.warn(first->id.to_string() + " is SUSPECT: " + why_suspect(*open_, *first));
}

// What no promise holds any more goes now that the new set is there. A removal that fails does not
// undo the set.
void BackupRun::prune(Index& index) {
  const Job& job = input_.job;
  if (!prunes_by_itself(job.when_full)) return;
  if (set_back_) {
    no_pruning_ = *set_back_;
    return messages_.note("nothing is pruned by this run: " + *set_back_);
  }
  try {
    PruneOptions options;
    options.stop = input_.options.stop;
    options.break_promises = job.when_full == WhenFull::kPruneDeeper;
    options.now = input_.started;
    options.interval = input_.interval;
    PruneReport pruned = prune_shelf(*open_, job, index, options, input_.observer);
    for (const PrunedSet& set : pruned.removed) {
      pruned_.push_back(set.id.to_string());
      if (!set.broke.empty()) messages_.note("restore point lost: " + set.lost_in_words());
    }
    no_pruning_ = pruned.blocked_by;
    if (pruned.may_not_remove) {
      messages_.warn(pruned.blocked_by);
    } else if (!pruned.blocked_by.empty() && !told_why_nothing_is_pruned()) {
      messages_.note(pruned.blocked_by);
    }
    for (const UnmetWish& wish : pruned.unmet) {
      std::string text = wish.text + "; " + pruned.kept_why;
      wish.at_most ? messages_.warn(text) : messages_.note(text);
    }
  } catch (const Error& error) {
    // When it was stopped, the next run goes on with it.
    if (error.kind() != ErrorKind::kStopped) messages_.warn("pruning failed: " + error.message());
  } catch (const std::exception& error) {  // from a library
    messages_.warn(std::string("pruning failed: ") + error.what());
  }
}

// Each of these has a warning of its own, which says that nothing is pruned.
bool BackupRun::told_why_nothing_is_pruned() const {
  const Shelf& shelf = open_->shelf;
  const std::vector<KnownDamage>& damage = open_->state->record.damage;
  return shelf.first_suspect() != nullptr ||
         std::any_of(shelf.sets().begin(), shelf.sets().end(), [&](const ShelfSet& set) {
           return set.unreadable && !knows_unreadable(damage, set);
         });
}

// ---- tell

void BackupRun::close_shelf() {
  if (!open_) return;
  shelf_path_ = open_->path;
  place_ = open_->state->record.place;
  open_.reset();
}

void BackupRun::fill(RunReport& report) const {
  report.shelf_path = open_ ? open_->path : shelf_path_;
  std::string on = open_ ? open_->state->record.place : place_;
  if (input_.job.places.size() > 1) report.on = on;
  if (plan_) {
    const NextSet& next = plan_->next;
    report.set = next.id;
    report.kind = next.kind;
    report.based_on = next.based_on;
    report.why = next.why;
  }
  report.continued = continued_;
  report.files = built_.files;
  report.bytes = built_.bytes;
  report.bytes.stored = stored_bytes_;
  report.left_out = built_.left_out;
  report.suspect = suspicion_.has_value();
  report.suspect_why = suspicion_.value_or("");
  report.suspect_since = suspect_since_;
  if (open_ && suspect_since_) {
    for (const ShelfSet& set : open_->shelf.sets()) {
      if (set.sealed() && set.id < *suspect_since_) report.before_suspect = set.id;
    }
  }
  report.kept_parts = kept_.parts;
  report.kept_bytes = kept_.bytes;
  report.pruned = pruned_;
  report.no_pruning = no_pruning_;
  report.away = away_;
  report.notes = messages_.notes();
  report.warnings = messages_.warnings();
  report.warning_count = messages_.warning_count();
}

// What the shelf itself does not tell to whoever looks at those of many PCs.
Json BackupRun::checks_json() const {
  const ShelfRecord& record = open_->state->record;
  auto damaged = std::count_if(record.damage.begin(), record.damage.end(),
                               [](const KnownDamage& known) { return !known.mended_by; });
  return {
      {"interval_seconds", input_.interval > 0 ? Json(input_.interval / kSecond) : Json(nullptr)},
      {"drilled", record.drill.when == 0 ? Json(nullptr) : Json(format_rfc3339(record.drill.when))},
      {"drill_mismatches", record.drill.mismatches},
      {"damaged_sets", damaged}};
}

void BackupRun::write_last_run(RunReport& report) {
  if (!open_ || shelf_was_lost_) return;
  try {
    report.shelf = summary_of(*open_);
    Json json = report.to_json();
    json.erase("warnings");
    json["warnings"] = report.warning_count;
    // Words may name files, and counts by kind say what happened to them: on an encrypted shelf
    // both are in the ledger alone.
    if (open_->shelf.label().recipient) {
      for (const char* key : {"reason", "suspect_why", "files", "kept", "away"})
        json[key] = nullptr;
      json["bytes"] = {{"stored", report.bytes.stored}};
    }
    json["checks"] = checks_json();
    write_small(*open_->place, kLastRunFile, json.dump(2) + "\n");
  } catch (const Error& error) {
    messages_.mention("last-run.json could not be written: " + error.message());
  }
}

}  // namespace kestrum
