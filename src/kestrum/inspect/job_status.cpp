#include "kestrum/inspect/job_status.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "kestrum/access/find_shelf.h"
#include "kestrum/base/file.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/job/job_store.h"
#include "kestrum/machine/run_records.h"
#include "kestrum/place/address.h"
#include "kestrum/place/local_place.h"
#include "kestrum/select/pattern.h"
#include "kestrum/shelf/drill_note.h"
#include "kestrum/system/scheduler.h"

namespace kestrum {
namespace {

// A job with a schedule is overdue when its newest restore point is older than this many of its
// intervals, and than this time at least.
constexpr Nanos kTryAfter = 180 * kDay;  // a passphrase that was not used since
constexpr Nanos kAwayAtMost = 14 * kDay;
constexpr int kOverdueIntervals = 3;
constexpr Nanos kOverdueAtLeast = 3 * kDay;

// `discreet`: the same without names of files; empty if it names none.
void add_problem(JobStatus& status, const std::string& kind, const std::string& text,
                 const std::string& discreet = "") {
  status.problems.push_back(text);
  status.discreet_problems.push_back(discreet.empty() ? text : discreet);
  status.kinds.push_back(kind);
}

void add_heed(JobStatus& status, const std::string& kind, const std::string& text,
              const std::string& discreet = "") {
  status.heeds.push_back(text);
  status.discreet_heeds.push_back(discreet.empty() ? text : discreet);
  status.kinds.push_back(kind);
}

// " since 3 hours ago"; of what began just now nothing.
std::string waiting_since_words(Nanos since, Nanos now) {
  std::string ago = format_ago(since, now);
  return ago == "just now" ? "" : " since " + ago;
}

bool was_a_run(const Json& record) {
  return record_text(record, "outcome") != "skipped";
}

std::optional<ShelfSummary> summary_in(const Json& record) {
  auto shelf = record.find("shelf");
  if (shelf == record.end() || !shelf->is_object()) return std::nullopt;
  ShelfSummary summary;
  try {
    get_name(*shelf, "path", summary.path, "run record");
  } catch (const Error&) {
    return std::nullopt;
  }
  summary.restore_points = record_count(record, "shelf", "restore_points");
  summary.stored_bytes = record_count(record, "shelf", "stored_bytes");
  summary.free_bytes = free_bytes_in(record);
  summary.newest = record_time(*shelf, "newest");
  summary.oldest = record_time(*shelf, "oldest");
  return summary;
}

// What was not done for longer than [checks] has patience for.
void add_nags(const Job& job, const std::vector<ShelfState>& shelves, JobStatus& status) {
  if (!status.shelf || status.shelf->restore_points == 0) return;
  Nanos now = calendar_now(), drilled = 0, unlocked = 0;
  auto nag = [&](Nanos since, Nanos patience, const std::string& text, const std::string& mend) {
    if (patience == 0 || since == 0 || now - since <= patience) return;
    add_heed(status, text, fmt::format("{} for {}: {}", text, format_duration(now - since), mend));
  };
  for (const ShelfState& state : shelves) {
    const ShelfRecord& record = state.record;
    Nanos verified = std::max(record.verified.when, record.since);
    std::string on = shelves.size() > 1 ? shell_option("on", record.place) : "";
    Nanos unseen = record.last_seen == 0 ? 0 : now - record.last_seen;
    if (job.rotation > 0 && unseen > job.rotation) {
      std::string name = base_name(record.place);
      std::string text =
          fmt::format("{} was not seen for {}, where every {} is expected", printable(name),
                      format_duration(unseen), format_duration(job.rotation));
      if (unseen > 2 * job.rotation) {
        add_problem(status, "unseen " + name, text);
      } else {
        add_heed(status, "unseen " + name, text);
      }
    }
    nag(verified, job.checks.nag_verify, "nothing was verified", "kestrum verify " + job.name + on);
    drilled = std::max({drilled, status.drill.when, record.since});
    unlocked = std::max({unlocked, record.last_unlocked, record.since});
  }
  nag(drilled, job.checks.nag_drill, "no restore was tried", "kestrum drill " + job.name);
  if (job.encrypted) {
    nag(unlocked, job.checks.nag_try, "nobody has used the passphrase",
        "kestrum passphrase " + job.name + " --try");
  }
}

// Whether a shelf lay there that the job has let go of, or that has moved since.
bool is_left(const MachineState& machine, const Job& job, const std::vector<ShelfState>& shelves,
             const std::string& path) {
  for (const ShelfState& state : shelves) {
    std::string now = state.record.place + "/" + state.record.folder;
    if (path == now) return false;
    if (state.record.moves > 0 && path.ends_with("/" + state.record.folder)) return true;
  }
  for (const ShelfState& state : machine.all_aside(job.name)) {
    if (path == state.record.place + "/" + state.record.folder) return true;
  }
  return false;
}

void look_at_shelf(const MachineState& machine, const Job& job, const RunRecords& records,
                   const std::vector<ShelfState>& shelves, JobStatus& status) {
  auto told = records.newest([&](const Json& record) {
    auto summary = summary_in(record);
    return summary && !is_left(machine, job, shelves, summary->path);
  });
  if (told) status.shelf = summary_in(*told);
  for (const ShelfState& state : shelves) {
    status.last_unlocked = std::max(status.last_unlocked, state.record.last_unlocked);
    Nanos known = std::max(state.record.last_unlocked, state.record.since);
    if (state.record.keys.recipient && known != 0 && calendar_now() - known > kTryAfter) {
      status.remarks = {"does anybody still know the passphrase? kestrum passphrase " + job.name +
                        " --try"};
    }
    status.disks.push_back({state.record.place, state.record.last_seen});
    if (state.record.card_outdated) {
      add_heed(status, "recovery card",
               "the recovery card of " + format_day(state.record.card_made) +
                   " is out of date, print it anew: kestrum passphrase " + job.name + " --card " +
                   job.name + ".pdf");
    }
    if (state.record.drill.when > status.drill.when) status.drill = state.record.drill;
    if (state.record.verified.when > status.verified.when) status.verified = state.record.verified;
    status.damage.insert(status.damage.end(), state.record.damage.begin(),
                         state.record.damage.end());
    if (state.record.suspect_since) {
      status.suspect = state.record.suspect_since;
      if (job.places.size() > 1) status.suspect_on = state.record.place;
    }
  }
  try {
    if (!status.shelf) {
      OpenShelf open = find_shelf(machine, job);
      status.shelf = summary_of(open);
      status.attached = true;
      return;
    }
    // Nobody waits for a server to be told how jobs stand: what the last run told does.
    if (is_remote(status.shelf->path)) return;
    if (LocalPlace place(status.shelf->path); place.exists(kLabelFile)) {
      if (auto room = place.room()) status.shelf->free_bytes = room->free;
      status.attached = true;
      if (auto note = read_drill_note(place, calendar_now());
          note && note->when > status.drill.when) {
        status.drill = {note->when, note->files, note->mismatches};
        status.drilled_at = note->host;
      }
    }
  } catch (const Error&) {
    // Away, or not to be read now: what the last run told stays.
  }
}

void look_at_copies(const Job& job, const std::vector<ShelfState>& shelves, JobStatus& status) {
  status.copies = copies_seen(job, shelves);
  for (const CopySeen& copy : status.copies) {
    std::string to = "kestrum shelf copy " + job.name + " --to " + shell_word(copy.place);
    if (copy.problems > 0) {
      add_heed(status, "copy " + copy.place,
               "not all could be copied to " + printable(copy.place) + ": " + to);
    } else if (is_overdue(job, copy, calendar_now())) {
      add_heed(status, "copy " + copy.place,
               fmt::format("the copy at {} is {} old and behind: {}", printable(copy.place),
                           format_duration(calendar_now() - copy.when), to));
    }
  }
}

// A folder that was moved is found missing at each run, and nobody reads that any more.
void add_long_away(const std::vector<ShelfState>& shelves, const Job& job,
                   const RunRecords& records, Nanos now, JobStatus& status) {
  std::vector<AwayFolder> away = last_away(records);
  std::erase_if(away, [&](const AwayFolder& folder) { return now - folder.since < kAwayAtMost; });
  if (away.empty()) return;
  std::set<std::string> released;
  for (const ShelfState& state : shelves) {
    for (const ReleasedFolder& folder : state.record.released) released.insert(folder.path);
  }
  for (const AwayFolder& folder : away) {
    if (released.contains(folder.path)) continue;
    std::string text = fmt::format("{} is away since {} and not copied", printable(folder.path),
                                   format_local_day(folder.since));
    bool copied =
        std::any_of(job.folders.begin(), job.folders.end(), [&](const std::string& pattern) {
          return !has_wildcard(pattern) && is_within(folder.may_be_at, path_of_pattern(pattern));
        });
    if (!folder.may_be_at.empty()) {
      text += "; it may be at " + printable(folder.may_be_at);
      text += copied ? ", which the job copies"
                     : fmt::format(": kestrum job set {} source.folders {} --add", job.name,
                                   shell_word(pattern_of_path(folder.may_be_at)));
    }
    std::string discreet =
        "a folder of the job is away since " + format_local_day(folder.since) + " and not copied";
    text += fmt::format(
        "; if it will not come back: kestrum trust {} --gone-for-good {} --because TEXT", job.name,
        shell_word(folder.path));
    add_problem(status, "away " + folder.path, text, discreet);
  }
}

// What is no trouble, but somebody should know.
void add_heeds(JobStatus& status, Nanos newest, Nanos now) {
  auto heed = [&](const std::string& kind, const std::string& text,
                  const std::string& discreet = "") { add_heed(status, kind, text, discreet); };
  if (status.outcome == "done with warnings") {
    unsigned number = run_number(status.run);
    heed("warnings", "the last run had warnings: kestrum history " + status.job + " --show " +
                         (number == 0 ? "newest" : std::to_string(number)));
  } else if (status.outcome == "stopped") {
    heed("stopped", "the last run was stopped: kestrum run " + status.job);
  }
  if (status.waiting_since != 0) {
    heed("waits for " + status.waiting_for,
         "waits" + waiting_since_words(status.waiting_since, now) + ": " + status.waiting_for);
  }
  if (status.paused) {
    heed("paused", status.paused_until == 0
                       ? "paused until: kestrum job resume " + status.job
                       : "paused until " + format_local_day(status.paused_until));
  }
  if (newest == 0 && !status.running) {
    heed("none yet", "no restore point yet: kestrum run " + status.job);
  }
  if (!status.no_pruning.empty() && !status.suspect) {
    heed("no pruning", status.no_pruning,
         "nothing is pruned: kestrum prune " + status.job + " --rehearse");
  }
  for (const KnownDamage& known : status.damage) {
    if (!known.mended_by) continue;
    bool followed = known.mended_by->chain > known.set.chain;
    heed("mended " + known.set.to_string(),
         fmt::format("{} is damaged, made good by {}: kestrum {}", known.set.to_string(),
                     known.mended_by->to_string(),
                     followed ? "prune " + status.job + " --damaged" : "verify " + status.job));
    break;
  }
}

}  // namespace

const char* state_name(StatusLevel level) {
  return level == StatusLevel::kFine ? "fine" : level == StatusLevel::kWarning ? "heed" : "trouble";
}

std::vector<std::string> JobStatus::reasons(bool names) const {
  std::vector<std::string> all = names ? problems : discreet_problems;
  const std::vector<std::string>& lesser = names ? heeds : discreet_heeds;
  all.insert(all.end(), lesser.begin(), lesser.end());
  return all;
}

JobStatus job_status(const Home& home, const std::string& name,
                     const std::optional<DueCaller>& caller, const Clock& clock) {
  JobStatus status;
  status.job = name;
  status.host = host_name();
  MachineState machine(home);
  RunRecords records(machine, name);
  if (auto last = records.newest(was_a_run)) {
    status.last_run = record_time(*last, "started");
    status.outcome = record_text(*last, "outcome");
    status.reason = record_text(*last, "reason");
    status.run = record_text(*last, "run");
    status.no_pruning = record_text(*last, "no_pruning");
    if (auto host = record_text(*last, "host"); !host.empty()) status.host = host;
  }
  status.running = JobLock::holder(machine, name);

  Job job;
  try {
    job = JobStore(home).load(name);
  } catch (const Error& error) {
    add_problem(status, "job file", error.message(),
                "the job's file is wrong: kestrum job check " + name);
    status.level = StatusLevel::kCritical;
    return status;
  }
  std::vector<ShelfState> shelves = machine.shelves(name);
  look_at_shelf(machine, job, records, shelves, status);
  add_nags(job, shelves, status);
  look_at_copies(job, shelves, status);
  auto trouble = [&](const std::string& kind, const std::string& text,
                     const std::string& discreet = "") {
    add_problem(status, kind, text, discreet);
  };

  Nanos now = clock.now();
  Scheduler scheduler(home, clock);
  Timetable times = scheduler.timetable(job);
  ScheduleState state = scheduler.book().load(name);
  status.paused = state.paused && (state.paused_until == 0 || now < state.paused_until);
  if (status.paused) status.paused_until = state.paused_until;
  status.by_hand = job.when.empty();
  status.when_files_change = times.when_files_change().has_value();
  status.waiting_since = state.waiting_since;
  // As it was said then: how long ago a disk was seen has changed since, and stands elsewhere.
  status.waiting_for = state.waiting_for.substr(0, state.waiting_for.find(" (last seen "));
  std::optional<Nanos> next = times.next_after(now);
  if (state.pending && state.failures > 0) {
    Nanos again = state.last_attempt + pause_after(state.failures);
    if (!next || again < *next) next = std::max(again, now);
  }
  if (!status.paused && state.waiting_since == 0) status.next_run = next.value_or(0);

  Nanos newest = status.shelf ? status.shelf->newest : 0;
  if (status.outcome == "failed") {
    trouble("failed", "the last run failed" + (status.reason.empty() ? "" : ": " + status.reason),
            "the last run failed: kestrum history " + name + " --show newest");
  }
  add_long_away(shelves, job, records, now, status);
  auto open_damage = std::find_if(status.damage.begin(), status.damage.end(),
                                  [](const KnownDamage& known) { return !known.mended_by; });
  if (open_damage != status.damage.end()) {
    trouble("damage " + open_damage->set.to_string(),
            fmt::format("{} is damaged; to store anew what is hurt: kestrum run {}",
                        open_damage->set.to_string(), name));
  }
  if (status.drill.mismatches > 0) {
    trouble("drill",
            fmt::format("the drill of {} did not get back {}: kestrum verify {} --contents",
                        format_local(status.drill.when), counted(status.drill.mismatches, "file"),
                        name));
  }
  if (status.suspect) {
    std::string on = shell_option("on", status.suspect_on);
    trouble("suspect " + status.suspect->to_string(),
            fmt::format("{} is SUSPECT, nothing is pruned: kestrum trust {} {} --because TEXT{}",
                        status.suspect->to_string(), name, status.suspect->to_string(), on));
  }
  if (caller && !status.by_hand && !status.paused) {
    bool needs_stay = status.when_files_change && !times.timed();
    if (caller->state == DueCaller::State::kUnknown) {
      add_heed(status, "caller", caller->problem + ": " + caller->mend);
    } else if (caller->state != DueCaller::State::kWorks) {
      trouble("caller", caller->problem + ": " + caller->mend);
    } else if (needs_stay && !caller->stays) {
      trouble("nobody stays",
              "it follows changes of files, and no kestrum run --stay does: kestrum run --stay");
    }
  }
  if (times.timed() && newest != 0 && !status.paused) {
    Nanos first = times.next_after(newest).value_or(0);
    Nanos second = first == 0 ? 0 : times.next_after(first).value_or(0);
    Nanos patience =
        std::max(kOverdueAtLeast, kOverdueIntervals * std::max<Nanos>(0, second - first));
    if (first != 0 && now > first + patience) {
      trouble("overdue", "overdue: the newest restore point is of " + format_local(newest));
    }
  }
  add_heeds(status, newest, now);
  status.level = !status.problems.empty() ? StatusLevel::kCritical
                 : !status.heeds.empty()  ? StatusLevel::kWarning
                                          : StatusLevel::kFine;
  return status;
}

}  // namespace kestrum
