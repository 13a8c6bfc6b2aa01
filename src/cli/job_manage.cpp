// Commands on jobs that are there: edit, copy, rename, pause, resume, remove, take.
#include <fmt/format.h>
#include <unistd.h>

#include "command.h"
#include "editor.h"
#include "job_definition.h"
#include "kestrum/access/find_shelf.h"
#include "kestrum/access/open_place.h"
#include "kestrum/base/file.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/chain/moment.h"
#include "kestrum/job/change_in_words.h"
#include "kestrum/job/hold.h"
#include "kestrum/job/job_file.h"
#include "kestrum/job/job_store.h"
#include "kestrum/machine/action_log.h"
#include "kestrum/machine/job_lock.h"
#include "kestrum/machine/schedule_book.h"
#include "questions.h"

namespace kestrum::cli {
namespace {

std::vector<std::string> problems_in(const std::string& name, const std::string& text) {
  std::vector<std::string> lines;
  for (const JobProblem& problem : parse_job(name, text).problems) {
    if (problem.error || problem.no_effect) lines.push_back(problem.text());
  }
  return lines;
}

void answer(const Context& context, const Json& json, const std::string& text) {
  if (context.json) {
    context.print_json(json);
  } else {
    context.say(text);
  }
}

// Takes the job's lock, so that nothing is pulled away under a run.
JobLock lock_for(const Context& context, const std::string& name, const std::string& activity) {
  return JobLock(context.machine(), name, activity);
}

std::string taken_path(const Context& context, const std::string& name) {
  return context.home.state + "/taken/" + name + ".toml";
}

// The job as it was taken last, so that the next time it is known whether it was edited here.
void remember_taken(const Context& context, const std::string& name, const std::string& text) {
  make_folders(context.home.state + "/taken");
  write_file(taken_path(context, name), text);
}

// Tells what taking `job` changes, asks where the one here was edited, and puts it aside; where to.
std::string make_way(const Context& context, const std::string& name, const std::string& file,
                     const Job& job, Json& changes) {
  std::string path = context.jobs().path(name), here = read_file(path);
  Job before = parse_job(name, here).job;
  for (const auto& [key, value] : job.values) {
    const KeyValue& was = before.values.at(key);
    if (was == value) continue;
    changes.push_back({{"key", key}, {"was", toml_text(was)}, {"is", toml_text(value)}});
    context.say(fmt::format("  {}: {} becomes {}", key, printable(toml_text(was)),
                            printable(toml_text(value))));
  }
  std::string taken = taken_path(context, name);
  bool edited = !path_exists(taken) || read_file(taken) != here;
  if (edited && !context.yes) {
    bool go_on = can_ask(context) &&
                 ask_yes(name + " was edited on this PC. Replace it all the same?", false);
    if (!go_on) {
      throw Error(ErrorKind::kUsage, name + " was edited on this PC, not only taken from a file",
                  "to replace it all the same: kestrum job take " + shell_word(file) + " --yes")
          .about_job(name);
    }
  }
  std::string kept = path + ".before";
  write_file(kept, here);
  return kept;
}

}  // namespace

int job_edit(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum job edit NAME");
  const std::string& name = args.positional()[0];
  ParsedJob before = context.jobs().parse(name);
  std::string path = context.jobs().path(name);
  std::string old_text = read_file(path);
  // Beside the job's file, so that nobody else can read or replace it.
  EditedFile edited(path + ".draft");
  const std::string& draft = edited.path;
  write_file(draft, old_text);
  for (;;) {
    if (!run_editor(draft)) {
      throw Error(ErrorKind::kFailed, "the editor failed; nothing was changed",
                  "set EDITOR to one that is installed");
    }
    std::string text = read_file(draft);
    if (text == old_text) {
      answer(context, {{"job", name}, {"changed", false}}, name + ": nothing was changed");
      return 0;
    }
    std::vector<std::string> problems = problems_in(name, text);
    if (problems.empty()) {
      write_file(path, text);
      answer(context, {{"job", name}, {"changed", true}}, name + " is saved");
      if (before.usable()) {
        std::vector<JobProblem> unwise;
        Job after = context.jobs().load(name, &unwise);
        std::string meaning = change_in_words(before.job, after);
        if (!meaning.empty()) context.say("  " + meaning);
        for (const JobProblem& problem : unwise) context.say("  warning: " + problem.text());
      }
      return 0;
    }
    for (const auto& problem : problems) context.tell("  " + printable(problem));
    if (!can_ask(context) || !ask_yes("Not saved. Edit again?", true)) {
      throw Error(ErrorKind::kUsage, name + ": not saved: " + problems[0], "nothing was changed");
    }
  }
}

int job_copy(const Context& context, const Args& args) {
  args.expect(2, 2, "kestrum job copy NAME NEW");
  const std::string& name = args.positional()[0];
  const std::string& copy = args.positional()[1];
  context.jobs().parse(name);
  context.jobs().create(copy, read_file(context.jobs().path(name)));
  ScheduleBook(context.machine()).update(copy, [&](ScheduleState& state) {
    state.settled = context.clock.now();
  });
  answer(
      context, {{"job", copy}, {"file", context.jobs().path(copy)}},
      fmt::format("{} is defined like {}\nnext: kestrum job edit {}, then kestrum shelf start {}",
                  copy, name, copy, copy));
  return 0;
}

int job_rename(const Context& context, const Args& args) {
  args.expect(2, 2, "kestrum job rename NAME NEW");
  const std::string& name = args.positional()[0];
  const std::string& renamed = args.positional()[1];
  context.jobs().parse(name);
  if (lower_ascii(name) != lower_ascii(renamed) || name == renamed) {
    context.jobs().check_new_name(renamed);
  } else if (auto why = bad_job_name(renamed)) {
    throw Error(ErrorKind::kUsage, renamed + ": " + *why);
  }
  MachineState machine = context.machine();
  JobLock lock = lock_for(context, name, "being renamed");
  // The shelves first: should the rest fail, the old name finds them again when this is repeated.
  for (auto&& shelves : {machine.shelves(name), machine.all_aside(name)}) {
    for (ShelfState shelf : shelves) {
      shelf.update_record([&](ShelfRecord& record) { record.job = renamed; });
    }
  }
  std::string runs = machine.runs_folder(name), new_runs = machine.runs_folder(renamed);
  if (path_exists(runs) && !path_exists(new_runs)) ::rename(runs.c_str(), new_runs.c_str());
  ScheduleBook(machine).rename(name, renamed);
  std::string from = context.jobs().path(name), to = context.jobs().path(renamed);
  if (::rename(from.c_str(), to.c_str()) != 0) {
    Error error = system_error(errno, from);
    for (ShelfState& shelf : machine.shelves(renamed)) {
      shelf.update_record([&](ShelfRecord& record) { record.job = name; });
    }
    throw error;
  }
  sync_folder(parent_of(to));
  std::string text = name + " is " + renamed + " now";
  for (const ShelfState& shelf : machine.shelves(renamed)) {
    text += fmt::format("\n  its sets stay in {}/{}", printable(shelf.record.place),
                        shelf.record.folder);
  }
  answer(context, {{"job", renamed}, {"was", name}}, text);
  return 0;
}

int job_pause(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum job pause NAME [--until DATE]");
  const std::string& name = args.positional()[0];
  Job job = context.jobs().load(name);
  Nanos now = context.clock.now(), until = 0;
  if (auto text = args.get("until")) {
    auto moment = parse_until(*text, now);
    if (!moment) {
      throw Error(ErrorKind::kUsage, "--until: \"" + printable(*text) + "\" is not a date",
                  "such as 2026-04-01, \"2026-04-01 08:00\", tomorrow, friday, \"in 2 weeks\"");
    }
    until = *moment;
    if (until <= now) {
      throw Error(ErrorKind::kUsage, "--until: " + format_local_day(until) + " is past already");
    }
  }
  ScheduleBook(context.machine()).update(name, [&](ScheduleState& state) {
    state.paused = true;
    state.paused_until = until;
  });
  answer(context,
         {{"job", name},
          {"paused", true},
          {"paused_until", until == 0 ? Json(nullptr) : Json(format_rfc3339(until))}},
         fmt::format(
             "{} is paused {}; by hand it still runs", name,
             until == 0 ? "until kestrum job resume " + name : "until " + format_local_day(until)));
  return 0;
}

int job_resume(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum job resume NAME");
  const std::string& name = args.positional()[0];
  context.jobs().load(name);
  bool was_paused = false;
  ScheduleBook(context.machine()).update(name, [&](ScheduleState& state) {
    was_paused = state.paused;
    // What fell into the pause was let go on purpose.
    if (state.paused) state.settled = std::max(state.settled, context.clock.now());
    state.paused = false;
    state.paused_until = 0;
  });
  answer(context, {{"job", name}, {"paused", false}},
         name + (was_paused ? " runs by its schedule again" : " was not paused"));
  return 0;
}

namespace {

// Throws Error(kPlace) if a disk that the shelf has filled is not plugged in: its parts would be
// left there, and nobody would know of what.
void check_all_disks(const OpenShelf& shelf) {
  std::string away = shelf.earlier ? shelf.earlier->away() : "";
  if (away.empty()) return;
  throw Error(ErrorKind::kPlace, "not plugged in, and holds parts of its sets: " + away,
              "plug it in, or let go of it first: kestrum shelf drop " + shelf.shelf.label().job +
                  " PLACE");
}

// The label last: until then it is this job's shelf, and removing can be repeated.
void empty_folder(Place& place) {
  for (const PlaceEntry& entry : place.list("")) {
    if (entry.is_folder) place.remove_folder(entry.name);
  }
  for (const PlaceEntry& entry : place.list("")) {
    if (entry.name != kLabelFile) place.remove_file(entry.name);
  }
  place.remove_file(kLabelFile);
}

// On the disks that it has filled first: the one that it is on says which those are.
void remove_shelf(OpenShelf& shelf) {
  if (shelf.earlier) {
    for (const EarlierDisk& disk : shelf.earlier->all()) {
      if (auto place = shelf.earlier->find(disk.number)) empty_folder(*place);
    }
  }
  empty_folder(*shelf.place);
  open_place(parent_of(shelf.path))->remove_folder(base_name(shelf.path));
}

}  // namespace

int job_remove(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum job remove NAME [--with-sets]");
  const std::string& name = args.positional()[0];
  context.jobs().parse(name);
  MachineState machine = context.machine();
  std::vector<ShelfState> shelves = machine.shelves(name);
  bool with_sets = args.has("with-sets");
  std::vector<OpenShelf> open;
  if (with_sets) {
    Job job = context.jobs().load(name);
    refuse_if_held(job);
    for (const ShelfState& shelf : shelves)
      open.push_back(find_shelf_to_write(machine, job, shelf.record.place));
    for (const OpenShelf& shelf : open) {
      check_all_disks(shelf);
      context.tell(fmt::format("  {} with {} will be deleted", printable(shelf.path),
                               counted(shelf.shelf.sets().size(), "set")));
    }
    // --yes does not answer this one: a name that is typed is meant.
    std::string typed = ask("This deletes backups. Type the job's name to go on");
    if (typed != name) {
      throw Error(ErrorKind::kUsage, "that is not the job's name; nothing was removed");
    }
  } else if (can_ask(context) && !ask_yes("Remove the job " + name + "? Its sets stay", false)) {
    context.say("nothing was removed");
    return 130;
  }
  std::vector<std::string> kept;
  {
    JobLock lock = lock_for(context, name, "being removed");
    for (OpenShelf& shelf : open) remove_shelf(shelf);
    for (const ShelfState& shelf : shelves) {
      if (!with_sets) kept.push_back(shelf.record.place + "/" + shelf.record.folder);
      remove_tree(shelf.folder());
    }
    for (const ShelfState& shelf : machine.all_aside(name)) remove_tree(shelf.folder());
    remove_tree(machine.runs_folder(name));
    ScheduleBook(machine).remove(name);
    ::unlink(context.jobs().path(name).c_str());
    sync_folder(context.home.jobs());
  }
  std::string text = name + " is removed";
  for (const auto& shelf : kept) {
    text += fmt::format("\n  its sets stay in {}", printable(shelf));
    text += fmt::format("\n  to look at them: kestrum look --shelf {}", shell_word(shelf));
  }
  answer(context, {{"job", name}, {"sets_kept", kept}}, text);
  return 0;
}

int job_take(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum job take FILE.toml");
  std::string file = absolute_path(args.positional()[0]);
  std::string name = base_name(file);
  if (!name.ends_with(".toml")) {
    throw Error(ErrorKind::kUsage, printable(file) + ": a job file is called NAME.toml",
                "its name becomes the job's");
  }
  name.resize(name.size() - 5);
  std::string text = read_file(file, 1 << 20);
  Job job = checked_job(name, text, "nothing was taken from " + file);
  for (const JobProblem& problem : parse_job(name, text).problems) {
    throw Error(ErrorKind::kUsage, printable(file) + ": " + problem.text(), "nothing was taken");
  }
  bool known = context.jobs().has(name);
  bool same = known && read_file(context.jobs().path(name)) == text;
  if (!known) context.jobs().check_new_name(name);
  Json changes = Json::array();
  std::string kept;
  if (known && !same) kept = make_way(context, name, file, parse_job(name, text).job, changes);
  Defined defined = define_job(context, args, job, text, true);
  remember_taken(context, name, text);
  if (!same) note_action(context.machine(), name, "take", file, context.clock.now());
  if (context.json) {
    context.print_json({{"job", name},
                        {"file", context.jobs().path(name)},
                        {"changed", !same},
                        {"changes", changes},
                        {"kept", kept.empty() ? Json(nullptr) : Json(kept)},
                        {"shelves", defined.shelves}});
    return 0;
  }
  context.say(fmt::format("{} {}: {}", name,
                          same    ? "is as it was"
                          : known ? "is changed"
                                  : "is taken",
                          context.jobs().path(name)));
  if (!kept.empty()) context.say("  what it was is kept in " + printable(kept));
  context.say();
  print_defined(context, job, defined);
  return 0;
}

}  // namespace kestrum::cli
