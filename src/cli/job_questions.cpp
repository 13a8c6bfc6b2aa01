// What `job new` asks on a terminal, in the order people think: what, where to, name, kind,
// protection, when, keep.
#include <fmt/format.h>
#include <sys/stat.h>

#include <cstdlib>

#include "job_definition.h"
#include "job_words.h"
#include "kestrum/access/start_shelf.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/forecast.h"
#include "kestrum/job/job_file.h"
#include "kestrum/job/job_store.h"
#include "kestrum/place/local_place.h"
#include "kestrum/place/mounts.h"
#include "kestrum/schedule/phrase.h"
#include "kestrum/schedule/phrase_parser.h"
#include "kestrum/select/litter.h"
#include "kestrum/select/only.h"
#include "kestrum/select/pattern.h"
#include "questions.h"
#include "read_observer.h"

namespace kestrum::cli {
namespace {

// What a choice of folders amounts to with the rules as they are so far.
void show_size(const Context& context, const JobValues& values) {
  JobValues trial = values;
  trial["destination.places"] = std::vector<std::string>{"/"};
  ParsedJob parsed = parse_job("trial", render_job(trial));
  if (!parsed.usable()) return;
  ReadObserver observer(context);
  ExpectedChanges found =
      survey(context.machine(), parsed.job, context.clock.now(), stop_requested, observer);
  observer.end();
  context.say(fmt::format("  that is {}, {}", counted(found.files.copied, "file"),
                          format_size(found.bytes.copied)));
  for (const Warning& warning : found.warnings) {
    context.say("  warning: " + printable(warning.path) + ": " + printable(warning.reason));
  }
}

void ask_folders(const Context& context, JobValues& values) {
  std::string home = std::getenv("HOME") != nullptr ? std::getenv("HOME") : "";
  std::string examples;
  for (const char* name : {"Documents", "Desktop", "Pictures", "Mail", ".thunderbird"}) {
    if (!home.empty() && is_named_folder(home + "/" + name)) examples += std::string(" ~/") + name;
  }
  context.say("What is to be copied? A folder a line; an empty line when that is all.");
  if (!examples.empty()) context.say("  for example" + examples);
  std::vector<std::string> folders;
  for (;;) {
    std::string typed = ask("folder");
    if (typed.empty() && !folders.empty()) break;
    if (typed.empty()) continue;
    std::string folder = typed_source(typed);
    bool there =
        has_wildcard(folder) ? !expand_pattern(folder).empty() : is_named(path_of_pattern(folder));
    if (!there) {
      context.say("  not there: " + printable(folder));
      continue;
    }
    folders.push_back(folder);
    values["source.folders"] = folders;
    show_size(context, values);
  }
}

struct DiskChoice {
  std::string folder, words;
};

std::vector<DiskChoice> disks_to_choose(const JobValues& values) {
  std::vector<DiskChoice> choices;
  const auto& folders = std::get<std::vector<std::string>>(values.at("source.folders"));
  for (const MountedDisk& disk : mounted_disks()) {
    struct stat st {
    }, source{};
    if (!look_named(disk.folder, st)) continue;
    Room room;
    try {
      room = LocalPlace(disk.folder).room().value();
    } catch (const Error&) {
      continue;
    }
    bool holds_source = false;
    for (const auto& folder : folders) {
      holds_source |= look_named(folder, source) && source.st_dev == st.st_dev;
    }
    if (holds_source) continue;
    choices.push_back(
        {disk.folder, fmt::format("{}  {} free of {} ({})", printable(disk.folder),
                                  format_size(room.free), format_size(room.total), disk.type)});
  }
  return choices;
}

void ask_place(const Context& context, JobValues& values, bool same_disk) {
  std::vector<DiskChoice> disks = disks_to_choose(values);
  context.say(disks.empty() ? "\nWhere to? No other disk is mounted; plug one in, or type a folder."
                            : "\nWhere to? The number of a disk, or a folder.");
  for (std::size_t i = 0; i < disks.size(); ++i) {
    context.say(fmt::format("  {}  {}", i + 1, disks[i].words));
  }
  for (;;) {
    std::string typed = ask("to", disks.empty() ? "" : "1");
    if (typed.empty()) continue;
    std::size_t number = 0;
    if (typed.size() < 4 && typed.find_first_not_of("0123456789") == std::string::npos) {
      number = static_cast<std::size_t>(std::stoul(typed));
      // Numbers that were not offered, such as those of disks that came meanwhile.
      if (number < 1 || number > disks.size()) {
        disks = disks_to_choose(values);
        for (std::size_t i = 0; i < disks.size(); ++i) {
          context.say(fmt::format("  {}  {}", i + 1, disks[i].words));
        }
        continue;
      }
    }
    try {
      std::string place = number > 0 ? disks[number - 1].folder : typed_place(typed);
      Job trial;
      trial.folders = std::get<std::vector<std::string>>(values.at("source.folders"));
      check_place(trial, place, same_disk);
      values["destination.places"] = std::vector<std::string>{place};
      return;
    } catch (const Error& error) {
      context.say("  " + printable(error.message()));
      if (!error.hint().empty()) context.say("  " + printable(error.hint()));
    }
  }
}

// Patterns, one an answer, until nothing is typed.
void ask_leave_out(const Context& context, JobValues& values) {
  context.say(
      "\nIs anything there that need not be copied? A pattern such as *.iso or /home/*/Downloads, "
      "one "
      "at a time. Caches, trash and temporary files are left out already.");
  std::vector<std::string> patterns;
  for (;;) {
    std::string typed = ask("leave out", "");
    if (typed.empty()) break;
    try {
      PatternSet{{typed}};
      patterns.push_back(typed);
    } catch (const Error& error) {
      context.say("  " + printable(error.message()));
    }
  }
  if (!patterns.empty()) values["source.leave_out"] = patterns;
}

void ask_only(const Context& context, JobValues& values) {
  std::string names;
  for (const FileCategory& category : file_categories()) {
    names += (names.empty() ? "" : ", ") + category.name;
  }
  context.say("\nWhich kinds of files? All, or some of: " + names + "; or patterns such as *.dwg.");
  for (;;) {
    std::string typed = ask("kinds", "all");
    if (lower_ascii(typed) == "all") return;
    std::vector<std::string> kinds;
    for (const std::string& piece : split(typed, ',')) {
      std::string kind(trimmed(piece));
      if (!kind.empty()) kinds.push_back(kind);
    }
    try {
      Only{kinds};
      if (!kinds.empty()) values["source.only"] = kinds;
      return;
    } catch (const Error& error) {
      context.say("  " + printable(error.message()) +
                  (error.hint().empty() ? "" : "; " + printable(error.hint())));
    }
  }
}

void ask_name(const Context& context, std::string& name, const JobValues& values) {
  context.say("\nA name that you will recognise next year.");
  const auto& folders = std::get<std::vector<std::string>>(values.at("source.folders"));
  std::string proposal;
  for (char c : lower_ascii(base_name(folders[0]))) {
    bool plain = (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9');
    if (plain || !proposal.empty()) proposal += plain ? c : '-';
  }
  while (proposal.ends_with('-')) proposal.pop_back();
  if (bad_job_name(proposal)) proposal = "backup";
  for (;;) {
    name = ask("name", proposal);
    try {
      context.jobs().check_new_name(name);
      return;
    } catch (const Error& error) {
      context.say("  " + printable(error.message()));
    }
  }
}

void ask_when(const Context& context, JobValues& values) {
  context.say(
      "\nWhen? Such as: every day at 21:00, every weekday at 12:30, every mon, fri at 17:00.");
  for (;;) {
    std::string said = ask("when", "by hand");
    if (lower_ascii(said) == "by hand") return;
    auto phrase = parse_phrase(said);
    if (!phrase) {
      context.say(fmt::format("  not clear; nearest to it is \"{}\"", nearest_phrase(said)));
      continue;
    }
    values["schedule.when"] = std::vector<std::string>{phrase->text()};
    Job trial;
    trial.when = {*phrase};
    context.say("  " + phrase->text() + ": " + next_times_in_words(context, trial));
    return;
  }
}

}  // namespace

void ask_for_missing(const Context& context, std::string& name, JobValues& values, bool same_disk) {
  if (!values.contains("source.folders")) {
    ask_folders(context, values);
    if (!values.contains("source.leave_out")) ask_leave_out(context, values);
    if (!values.contains("source.only")) ask_only(context, values);
  }
  if (!values.contains("destination.places")) ask_place(context, values, same_disk);
  if (name.empty()) ask_name(context, name, values);
  if (!values.contains("chain.kind")) {
    context.say("\nAfter a full set, each run copies");
    constexpr const char* kKinds[] = {"incremental", "differential", "full"};
    std::size_t kind =
        ask_choice("kind",
                   {"incremental: what changed since the last run (smallest)",
                    "differential: what changed since the full set (two sets restore all)",
                    "full: everything, every time"},
                   0);
    if (kind != 0) values["chain.kind"] = std::string(kKinds[kind]);
    if (kind == 1 && !values.contains("chain.new_full")) {
      values["chain.new_full"] = std::string("after 6 differentials");
    }
  }
  if (!values.contains("protection.mode")) {
    context.say("\nA lost disk is a stranger's disk.");
    std::size_t mode = ask_choice("protection",
                                  {"passphrase: encrypted; without it nobody can restore",
                                   "none: whoever has the disk can read it"},
                                  0);
    if (mode == 1) values["protection.mode"] = std::string("none");
  }
  if (!values.contains("schedule.when")) ask_when(context, values);
  if (!values.contains("keep.for")) {
    context.say("\nHow long must every restore point stay?");
    for (;;) {
      std::string keep = ask("keep", "14 days");
      if (parse_duration(keep)) {
        if (keep != "14 days") values["keep.for"] = keep;
        break;
      }
      context.say("  not a length of time, such as 14 days or 3 months");
    }
  }
}

}  // namespace kestrum::cli
