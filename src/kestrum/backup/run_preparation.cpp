#include "kestrum/backup/run_preparation.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/access/change_keys.h"
#include "kestrum/access/find_shelf.h"
#include "kestrum/access/known_damage.h"
#include "kestrum/access/next_disk.h"
#include "kestrum/access/rebuild_index.h"
#include "kestrum/access/unlock.h"
#include "kestrum/backup/continuation.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/units.h"
#include "kestrum/job/change_in_words.h"
#include "kestrum/job/job_file.h"

namespace kestrum {
namespace {

// The job's file may have been edited by hand since the last set.
void note_change_of_job(const RunInput& input, const OpenShelf& open, RunMessages& messages) {
  std::string state_path = open.state->folder() + "/job.toml";
  if (open.shelf.sets().empty() || !path_exists(state_path)) return;
  ParsedJob before = parse_job(input.job.name, read_file(state_path));
  if (!before.usable()) return;
  std::string meaning = change_in_words(before.job, input.job);
  if (!meaning.empty()) messages.note("the job changed since the last set: " + meaning);
}

// A passphrase or a key that was changed while a disk was away holds there still. Disks that the
// shelf has filled get what holds now.
void note_keys_to_change(const RunInput& input, const OpenShelf& open, RunMessages& messages) {
  for (const ShelfState& state : input.machine.shelves(input.job.name)) {
    const ShelfKeys& keys = state.record.keys;
    if (!keys.still_to_do.empty()) {
      messages.note("the disk at " + state.record.place +
                    " was away when the keys were changed: " + keys.still_to_do);
    }
  }
  put_keys_on_earlier_disks(open);
  if (open.state->record.keys.signers.size() > 1) {
    messages.note(
        "a change of keys was cut short, and the old ones hold still: kestrum passphrase " +
        input.job.name + " --new-key");
  }
}

// Where the newest set that this PC remembers is not there as it was left: why the next must be
// full, if it must.
std::optional<std::string> compare_newest(const RunInput& input, const OpenShelf& open,
                                          RunMessages& messages) {
  const NewestSet& known = open.state->record.newest;
  if (!known.set) return std::nullopt;
  const ShelfSet* newest = open.shelf.find(*known.set);
  bool sealed = newest != nullptr && newest->sealed();
  if (sealed && newest->seal_digest == known.seal) return std::nullopt;
  messages.note(
      fmt::format("{} is not on this shelf as this PC left it: the disk was rolled back, or the "
                  "set is damaged: kestrum verify {}",
                  known.set->to_string(), input.job.name));
  if (sealed) return std::nullopt;
  return known.set->to_string() + " is missing or damaged on this shelf";
}

// What opens the shelf's sets; nothing, and `otherwise` is noted, if that takes a passphrase that
// nobody gave.
std::optional<std::vector<Identity>> identities_at_hand(const RunInput& input, OpenShelf& open,
                                                        RunMessages& messages,
                                                        const char* otherwise) {
  if (!open.shelf.label().recipient) return std::vector<Identity>{};
  const auto& ask = input.options.passphrase;
  if (auto passphrase = ask ? ask() : std::nullopt) {
    return unlock_shelf(open, *passphrase).identities;
  }
  messages.note(otherwise);
  return std::nullopt;
}

void rebuild_index(OpenShelf& open, Index& index, const std::vector<Identity>& identities,
                   RunMessages& messages) {
  RebuildResult result = update_index(open.shelf, index, identities, messages.observer());
  for (const auto& problem : result.problems) messages.mention(problem);
}

// What the sets before one that was made blind hold is known again as soon as somebody gives the
// passphrase; until then everything stays.
void compare_what_was_made_blind(const RunInput& input, OpenShelf& open, Index& index,
                                 RunMessages& messages) {
  auto newest = index.newest();
  if (!newest || newest->lacking) return;
  if (sets_not_indexed(open.shelf, index, open.state->record.damage).empty()) return;
  auto identities = identities_at_hand(
      input, open, messages,
      "what older sets hold was not compared with the newest yet, so that nothing is pruned: run "
      "once with --passphrase-from");
  if (identities) rebuild_index(open, index, *identities, messages);
}

// Room that makes it worth while to try again on a disk that was full.
constexpr std::uint64_t kRoomAgain = 64'000'000;

// On to the disk that waits, where the one that the shelf is on is full.
void go_on_where_full(const RunInput& input, RunMessages& messages) {
  for (ShelfState& state : input.machine.shelves(input.job.name)) {
    const ShelfRecord& record = state.record;
    if (input.machine.is_copied(record)) continue;
    if (is_going_on(record)) go_on_at(state, record.place);
    if (record.full.since == 0 || input.job.when_full != WhenFull::kAsk) continue;
    auto next = waiting_disk(input.job, record, input.options.on_place);
    if (!next) continue;
    std::string full = base_name(record.place);
    // The keys may have changed since.
    try {
      keep_documents(find_shelf(input.machine, input.job, record.place));
    } catch (const Error& error) {  // it is out: what was kept when it was left will do
      if (error.kind() != ErrorKind::kPlace) throw;
    }
    go_on_at(state, *next);
    messages.note(fmt::format("{} is full: {} goes on on {}", full, input.job.name, *next));
  }
}

// A disk that was full, and is not any more, is gone on with.
void check_full(const RunInput& input, OpenShelf& open) {
  const FullDisk full = open.state->record.full;
  if (full.since == 0) return;
  auto room = open.place->room();
  bool again = room && room->free > full.free + std::min(kRoomAgain, input.job.part_size);
  if (again || input.job.when_full != WhenFull::kAsk) return is_not_full(*open.state);
  throw full_disk(input.job, *open.state);
}

// Where neither the full disk nor the next one is there, it is the next one that is wanted.
OpenShelf find_or_next(const RunInput& input) {
  try {
    return find_shelf_to_write(input.machine, input.job, input.options.on_place);
  } catch (const Error& error) {
    bool away = error.kind() == ErrorKind::kPlace && input.job.when_full == WhenFull::kAsk;
    for (const ShelfState& state : input.machine.shelves(input.job.name)) {
      if (!away || state.record.full.since == 0) continue;
      Error full = full_disk(input.job, state);
      throw Error(ErrorKind::kPlace, full.message(), full.hint())
          .about_job(input.job.name)
          .about_path(state.record.place)
          .may_come();
    }
    throw;
  }
}

}  // namespace

Error full_disk(const Job& job, const ShelfState& state) {
  const std::string& place = state.record.place;
  std::string others;
  for (const std::string& other : job.places) {
    if (other == place || was_on(state.record, other)) continue;
    others += (others.empty() ? "" : " or ") + base_name(other);
  }
  std::string start = "kestrum shelf start " + job.name;
  if (others.empty()) {
    return Error(ErrorKind::kNoRoom,
                 fmt::format("{}: {} is full; it goes on on another disk, and the job names no "
                             "other place",
                             job.name, base_name(place)),
                 "what was written is kept: put another one in its place, or name one more in "
                 "destination.places, then make it ready: " +
                     start)
        .about_job(job.name);
  }
  return Error(ErrorKind::kNoRoom,
               fmt::format("{}: {} is full; it goes on on {}", job.name, base_name(place), others),
               "what was written is kept: plug that one in and run " + job.name +
                   " again; a disk that is new to the job is made ready first: " + start)
      .about_job(job.name);
}

OpenShelf find_disk(const RunInput& input, RunMessages& messages) {
  go_on_where_full(input, messages);
  OpenShelf open = find_or_next(input);
  check_full(input, open);
  if (!open.instead_of.empty()) {
    messages.note("the disk is not where it was: found at " + open.path + " instead of " +
                  open.instead_of);
  }
  return open;
}

void check_shelf(const RunInput& input, const OpenShelf& open) {
  const Job& job = input.job;
  check_clock(open.shelf.label(), input.clock);
  if (job.encrypted != open.shelf.label().recipient.has_value()) {
    throw Error(ErrorKind::kUsage,
                fmt::format("protection.mode is \"{}\", but this shelf was started {}encrypted",
                            job.encrypted ? "passphrase" : "none", job.encrypted ? "un" : ""),
                "start a shelf on another disk, or change protection.mode back");
  }
}

void examine_shelf(const RunInput& input, OpenShelf& open, RunMessages& messages) {
  note_change_of_job(input, open, messages);
  note_keys_to_change(input, open, messages);
  std::string verify = "kestrum verify " + input.job.name;
  for (const ShelfSet& set : open.shelf.sets()) {
    if (!set.unreadable) continue;
    if (knows_unreadable(open.state->record.damage, set)) {
      messages.note(set.problem + "; its chain stays as it is: " + verify);
    } else {
      messages.warn(set.problem + "; nothing is pruned until it was looked at: " + verify);
    }
  }
  LookedOver found = look_over(open);
  for (const std::string& mended : found.mended) messages.warn(mended + ": " + verify);
  for (const KnownDamage& damage : found.damage) {
    messages.warn(in_words(damage) + ": damage on the disk: " + verify);
  }
}

std::optional<std::string> bring_index_up_to_date(const RunInput& input, OpenShelf& open,
                                                  const std::optional<std::string>& set_back,
                                                  Index& index, RunMessages& messages) {
  Shelf& shelf = open.shelf;
  if (auto why = compare_newest(input, open, messages)) return why;
  if (set_back) {
    messages.warn("this shelf is an older state of itself: " + *set_back + ": kestrum verify " +
                  input.job.name);
    return "the shelf is an older state of itself";
  }
  if (index_matches(shelf, index)) {
    compare_what_was_made_blind(input, open, index, messages);
    return std::nullopt;
  }
  const std::optional<SetId>& known = open.state->record.newest.set;
  if (const ShelfSet* newest = shelf.newest(); newest != nullptr && known && *known < newest->id) {
    messages.note(fmt::format(
        "this PC was set back: it wrote {} on {}, and remembers nothing behind "
        "{}",
        newest->id.to_string(), format_local(newest->seal.started), known->to_string()));
  }
  auto identities = identities_at_hand(
      input, open, messages,
      "this PC's index does not match the shelf, so a full set is made; to continue the "
      "chain instead, run again with --passphrase-from");
  if (!identities) return "the index of this PC does not match the shelf";
  messages.mention("the index of this PC does not match the shelf; it is rebuilt");
  rebuild_index(open, index, *identities, messages);
  if (index_matches(shelf, index)) return std::nullopt;
  return "the index could not be rebuilt from the shelf";
}

RunPlan decide_plan(const RunInput& input, const OpenShelf& open, Index& index,
                    std::optional<std::string> must_be_full, RunMessages& messages) {
  PlanInput plan_from = plan_input(open, index);
  plan_from.wanted = input.options.kind;
  if (must_be_full) plan_from.must_be_full = std::move(must_be_full);
  plan_from.now = input.started;
  RunPlan plan = plan_run(input.job, index, std::move(plan_from));
  if (auto id = number_begun_elsewhere(open, index)) {
    // On the disks where its parts lie, they lie under its number.
    bool follows = plan.next.based_on ? id->chain == plan.next.id.chain && plan.next.id < *id
                                      : id->link == 0 && plan.next.id < *id;
    if (follows) plan.next.id = *id;
  }
  for (const auto& root : plan.roots.fresh) messages.note("a new folder matches: " + root);
  return plan;
}

RunPlan decide_smaller_plan(const RunInput& input, const OpenShelf& open, Index& index) {
  PlanInput plan_from = plan_input(open, index);
  plan_from.rather_not_full = "it does not fit";
  plan_from.now = input.started;
  return plan_run(input.job, index, std::move(plan_from));
}

void check_plan(const RunInput& input, const RunPlan& plan) {
  const std::vector<std::string>& roots = plan.roots.present;
  bool any = std::any_of(roots.begin(), roots.end(),
                         [](const std::string& root) { return is_named(root); });
  if (plan.next.kind == SetKind::kFull && !any) {
    throw Error(ErrorKind::kFailed, "none of the folders is there: " + input.job.folders[0],
                "kestrum job check " + input.job.name);
  }
}

}  // namespace kestrum
