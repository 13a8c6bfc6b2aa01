// Letting go of a place: of a disk that is lost, or that is given away.
#include <fmt/format.h>

#include "command.h"
#include "kestrum/access/let_go.h"
#include "kestrum/access/next_disk.h"
#include "kestrum/backup/copy_job.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/copies_seen.h"
#include "kestrum/job/hold.h"
#include "kestrum/machine/action_log.h"
#include "kestrum/machine/job_lock.h"
#include "questions.h"
#include "read_observer.h"

namespace kestrum::cli {
namespace {

std::string times_of(const ShelfSummary& summary) {
  if (summary.restore_points == 0) return "no restore point";
  return fmt::format("{}, {} to {}", counted(summary.restore_points, "restore point"),
                     format_local(summary.oldest), format_local(summary.newest));
}

// Where else the job has restore points, a line a place.
std::vector<std::string> lines_on_others(const Context& context, const Job& job,
                                         const std::string& place) {
  std::vector<std::string> lines;
  std::vector<ShelfState> shelves = context.machine().shelves(job.name);
  for (const ShelfState& state : shelves) {
    const ShelfRecord& record = state.record;
    if (record.place == place || !record.newest.set) continue;
    lines.push_back(fmt::format("on {}: up to {}, last seen {}", printable(record.place),
                                record.newest.set->to_string(),
                                format_ago(record.last_seen, calendar_now())));
  }
  for (const CopySeen& copy : copies_seen(job, shelves)) {
    if (copy.place == place) continue;
    lines.push_back("in the copy at " + printable(copy.place) + ": " +
                    copy.in_words(calendar_now()));
  }
  return lines;
}

Error only_place(const Context& context, const Job& job) {
  return Error(ErrorKind::kUsage, job.name + " has no other place",
               fmt::format("first another one: kestrum job set {} destination.places PLACE --add, "
                           "then kestrum shelf start {}",
                           job.name, job.name))
      .about_job(job.name)
      .about_path(context.jobs().path(job.name));
}

void print_what_is_erased(const Context& context, const Job& job, const ShelfToErase& target) {
  using Kind = ShelfToErase::Kind;
  const Shelf& shelf = target.open.shelf;
  ShelfSummary summary = summary_of(target.open);
  context.tell(fmt::format("{} holds {}, {}", printable(summary.path), times_of(summary),
                           format_size(summary.stored_bytes)));
  std::vector<std::string> others = lines_on_others(context, job, target.place);
  if (target.kind == Kind::kCopy) {
    context.tell("  it is a copy; its shelf is " + *shelf.label().copy_of);
  } else if (target.kind == Kind::kWaiting) {
    context.tell("  it holds nothing yet: it waits until the disk before it is full");
  } else if (target.kind == Kind::kFilled) {
    context.tell("  " + job.name + " has filled it and gone on to " +
                 printable(target.open.state->record.place) + ": restore points there");
    context.tell("  need what lies here, and LOSE it; the next run stores anew what is still");
    context.tell("  on this PC");
  } else if (target.kind == Kind::kFormerHome) {
    context.tell("  the shelf has moved from here to " +
                 printable(target.open.state->record.place));
  } else if (others.empty()) {
    context.tell("  NO OTHER restore point of " + job.name + " is known to this PC");
  } else {
    context.tell("  these are on no other disk but a copy of it; " + job.name +
                 " has others of its own");
  }
  for (const std::string& line : others) context.tell("  " + line);
  if (shelf.label().recipient) {
    context.tell("  Its keys are overwritten first: who has only this disk cannot read the rest.");
    context.tell("  A recovery card, a copy of the shelf or a key kept elsewhere still opens what");
    context.tell("  can be brought back from the disk, and flash may keep old blocks for a while.");
  } else {
    context.tell("  It is NOT PROTECTED: what is removed can be brought back by whoever has the");
    context.tell("  disk. Overwrite the whole disk before you give it away.");
  }
}

}  // namespace

int shelf_drop(const Context& context, const Args& args) {
  args.expect(2, 2, "kestrum shelf drop NAME PLACE");
  const std::string& name = args.positional()[0];
  Job job = context.jobs().load(name);
  MachineState machine = context.machine();
  PlaceToLeave leave = place_to_leave(machine, job, args.positional()[1]);
  if (leave.is_only_one) throw only_place(context, job);
  std::string lost = "no set of it was known";
  {
    JobLock lock(machine, name, "letting go of a place");
    bool filled = false;
    for (ShelfState& state : machine.shelves(name)) {
      if (!was_on(state.record, leave.place)) continue;
      const std::vector<FormerDisk> earlier = state.record.earlier;
      for (const FormerDisk& former : earlier) {
        if (former.place == leave.place) {
          forget_earlier_disk(machine, job, state, former.disk.number);
        }
      }
      filled = true;
    }
    if (filled) lost = "what lay there is stored anew by the next run, if it is on this PC";
    leave_place(context.jobs(), job, leave.place);
    if (leave.state) {
      const NewestSet& newest = leave.state->record.newest;
      if (newest.set) lost = "its newest set was " + newest.set->to_string();
      machine.set_aside(*leave.state, Aside::kDropped);
    }
  }
  note_action(machine, name, "drop", printable(leave.place) + ": " + lost, context.clock.now());
  std::vector<std::string> others = lines_on_others(context, job, leave.place);
  if (context.json) {
    context.print_json({{"job", name},
                        {"dropped", printable(leave.place)},
                        {"was_shelf", leave.state.has_value()},
                        {"was_copy", leave.is_for_a_copy}});
    return 0;
  }
  context.say(fmt::format("{} has let go of {}; {}", name, printable(leave.place), lost));
  for (const std::string& line : others) context.say("  restore points are " + line);
  if (leave.state) {
    context.say("  Nothing on the disk was changed. If it turns up:");
    context.say(fmt::format("  kestrum job set {} destination.places {} --add", name,
                            shell_word(leave.place)));
    if (leave.state->record.keys.recipient) {
      context.say(
          "  Who finds it needs the passphrase. If that is known to others: kestrum "
          "passphrase " +
          name);
    }
  }
  return 0;
}

int shelf_erase(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum shelf erase NAME --on PLACE");
  const std::string& name = args.positional()[0];
  Job job = context.jobs().load(name);
  MachineState machine = context.machine();
  auto on = args.get("on");
  if (!on) {
    throw Error(ErrorKind::kUsage, "which disk? --on PLACE",
                "what is where: kestrum shelf list " + name)
        .about_job(name);
  }
  refuse_if_held(job);
  std::string place = place_of_disk(machine, job, *on);
  ShelfToErase target = shelf_to_erase(machine, job, place);
  print_what_is_erased(context, job, target);
  std::string typed = ask("This deletes backups. Type the job's name to go on");
  if (typed != name) {
    throw Error(ErrorKind::kUsage, "that is not the job's name; nothing was erased");
  }
  JobLock lock(machine, name, "erasing a disk");
  JobLock copying(machine, copy_lock_name(job), "erasing a disk");
  check_erasable(target);
  leave_place(context.jobs(), job, place);
  bool is_shelf = target.kind == ShelfToErase::Kind::kShelf;
  if (is_shelf) machine.set_aside(*target.open.state, Aside::kErased);
  if (target.kind == ShelfToErase::Kind::kFilled) {
    forget_earlier_disk(machine, job, *target.open.state, target.open.shelf.label().moves);
  }
  ReadObserver observer(context);
  std::vector<std::string> others = erase_shelf(target, observer);
  observer.end();
  note_action(machine, name, "erase", printable(target.open.path), context.clock.now());
  if (context.json) {
    Json left = Json::array();
    for (const std::string& other : others) left.push_back(printable(other));
    context.print_json({{"job", name}, {"erased", printable(target.open.path)}, {"left", left}});
    return others.empty() ? 0 : 1;
  }
  context.say(printable(target.open.path) + " is erased");
  for (const std::string& other : others) {
    context.say("  left, as it is not of a shelf: " + printable(other));
  }
  Job now = context.jobs().load(name);
  if (is_shelf && now.places == std::vector{place}) {
    context.say(
        fmt::format("{} names no other place; its next: kestrum job set {} "
                    "destination.places PLACE",
                    name, name));
  }
  return others.empty() ? 0 : 1;
}

}  // namespace kestrum::cli
