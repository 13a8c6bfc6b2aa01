#include "job_definition.h"

#include <fmt/format.h>
#include <unistd.h>

#include "command.h"
#include "forecast_words.h"
#include "job_words.h"
#include "kestrum/access/find_shelf.h"
#include "kestrum/access/next_disk.h"
#include "kestrum/access/open_place.h"
#include "kestrum/access/resolve_path.h"
#include "kestrum/access/start_shelf.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"
#include "kestrum/inspect/forecast.h"
#include "kestrum/job/job_file.h"
#include "kestrum/job/unwise_rules.h"
#include "kestrum/place/address.h"
#include "kestrum/schedule/phrase_parser.h"
#include "kestrum/system/scheduler.h"
#include "questions.h"
#include "read_observer.h"
#include "run_job.h"
#include "servers.h"
#include "table.h"

namespace kestrum::cli {
namespace {

struct OptionKey {
  const char* option;
  const char* key;
};
constexpr OptionKey kTextOptions[] = {{"if-missed", "schedule.if_missed"},
                                      {"kind", "chain.kind"},
                                      {"new-full", "chain.new_full"},
                                      {"keep-for", "keep.for"},
                                      {"at-most", "keep.at_most"},
                                      {"leave-free", "keep.leave_free"},
                                      {"level", "compression.level"},
                                      {"part-size", "destination.part_size"},
                                      {"protection", "protection.mode"},
                                      {"when-full", "destination.when_full"},
                                      {"title", "title"}};
constexpr OptionKey kListOptions[] = {{"leave-out", "source.leave_out"},
                                      {"only", "source.only"},
                                      {"also-for", "protection.also_for"}};

// Why there is nothing at a place now that may be there another time; empty if there is. Throws
// Error for a server that lets nobody in.
std::string why_away(const std::string& place) {
  if (!is_place(place)) return "not plugged in now: " + printable(place);
  if (!is_remote(place)) return "";
  try {
    reach_place(place);
    return "";
  } catch (const Error& error) {
    if (!error.worth_waiting()) throw;
    return "not reached now: " + printable(error.message());
  }
}

}  // namespace

std::string typed_folder(const std::string& typed) {
  bool anchored = false;
  std::string path = stored_form(typed, anchored);
  return absolute_path(anchored ? "/" + path : path);
}

std::string typed_source(const std::string& typed) {
  std::string folder = typed_folder(typed);
  return is_named(folder) ? pattern_of_path(folder) : folder;
}

std::string typed_place(const std::string& typed) {
  std::size_t colon = typed.find(":/");
  bool host = colon != std::string::npos && colon > 0 && typed.find('/') == colon + 1 &&
              typed.compare(colon, 3, "://") != 0;
  if (host || typed.starts_with("//") || typed.starts_with("\\\\")) {
    throw Error(ErrorKind::kUsage, printable(typed) + " is a share, not a folder",
                "mount it, such as by /etc/fstab, and name the folder where it appears");
  }
  return typed.find("://") != std::string::npos ? parse_address(typed).text() : typed_folder(typed);
}

JobValues values_from(const Args& args) {
  JobValues values;
  std::vector<std::string> folders, places;
  for (const auto& typed : args.list("from")) folders.push_back(typed_source(typed));
  for (const auto& typed : args.list("to")) {
    places.push_back(typed_place(typed));
  }
  if (!folders.empty()) values["source.folders"] = folders;
  if (!places.empty()) values["destination.places"] = places;
  for (const auto& [option, key] : kTextOptions) {
    if (auto value = args.get(option)) values[key] = *value;
  }
  for (const auto& [option, key] : kListOptions) {
    if (args.has(option)) values[key] = args.list(option);
  }
  if (auto chains = args.number("keep-chains", 0, INT32_MAX)) {
    values["keep.chains"] = std::int64_t{*chains};
  }
  if (args.has("when")) {
    std::vector<std::string> phrases;
    for (const auto& said : args.list("when")) {
      auto phrase = parse_phrase(said);
      if (phrase) phrases.push_back(phrase->text());
      if (!phrase && lower_ascii(said) != "by hand") phrases.push_back(said);  // refused later
    }
    values["schedule.when"] = phrases;
  }
  return values;
}

// What is wrong with the folders and places as they are now.
std::vector<std::string> missing_paths(const Job& job) {
  std::vector<std::string> missing;
  for (const auto& pattern : job.folders) {
    auto found = expand_pattern(pattern);
    if (found.empty()) {
      missing.push_back("source.folders: nothing matches " + printable(pattern) + " now");
    }
    for (const auto& folder : found) {
      if (!is_named(folder)) {
        missing.push_back("source.folders: not there now: " + printable(folder));
      }
    }
  }
  for (const auto& place : job.places) {
    for (const auto& folder : expand_patterns(job.folders)) {
      if (!is_within(place, folder)) continue;
      missing.push_back("destination.places: " + printable(place) + " lies in " +
                        printable(folder) + ", which is copied; a backup belongs on another disk");
    }
    std::string why;
    try {
      why = why_away(place);
    } catch (const Error& error) {
      why = printable(error.message());
    }
    if (!why.empty()) missing.push_back("destination.places: " + why);
  }
  return missing;
}

Job checked_job(const std::string& name, const std::string& text, const std::string& hint) {
  ParsedJob parsed = parse_job(name, text);
  for (const JobProblem& problem : parsed.problems) {
    if (problem.error) {
      throw Error(ErrorKind::kUsage, problem.key + ": " + problem.message, hint).about_job(name);
    }
  }
  return std::move(parsed.job);
}

Defined define_job(const Context& context, const Args& args, const Job& job,
                   const std::string& text, bool replace) {
  // Everything that can be refused is refused before anything is written.
  ask_about_host_keys(context);
  Defined defined;
  std::vector<std::string> to_start;
  for (const auto& place : job.places) {
    if (!why_away(place).empty()) continue;
    if (replace) {
      try {
        defined.known.push_back(find_shelf_to_write(context.machine(), job, place).path);
        continue;
      } catch (const Error& error) {
        if (!error.worth_waiting()) throw;
        auto spanning = spanning_shelf(context.machine(), job);
        if (spanning && waiting_disk(job, spanning->record, place)) continue;
      }
    }
    check_place(job, place, args.has("same-disk"));
    to_start.push_back(place);
  }
  StartOptions start;
  start.same_disk = args.has("same-disk");
  if (job.encrypted && !to_start.empty()) start.passphrase = new_passphrase(args, job.name);

  bool fresh = !context.jobs().has(job.name);
  if (fresh) {
    context.jobs().create(job.name, text);
  } else {
    write_file(context.jobs().path(job.name), text);
  }
  try {
    for (const auto& place : to_start) {
      auto spanning = spanning_shelf(context.machine(), job);
      if (spanning && job.when_full == WhenFull::kAsk) {
        prepare_next_disk(*spanning, place, context.clock);
        defined.waiting.push_back(place);
        continue;
      }
      start.place = place;
      defined.shelves.push_back(
          start_shelf(context.machine(), job, text, start, context.clock).path);
    }
  } catch (...) {
    if (fresh && defined.shelves.empty()) ::unlink(context.jobs().path(job.name).c_str());
    throw;
  }
  // Its schedule holds from now on.
  ScheduleBook(context.machine()).update(job.name, [&](ScheduleState& state) {
    if (state.settled == 0) state.settled = context.clock.now();
    if (state.when.empty()) state.when = phrases_text(job);
  });
  return defined;
}

void print_defined(const Context& context, const Job& job, const Defined& defined) {
  fmt::print("{}", job_in_words(context, job));
  std::string next = next_times_in_words(context, job);
  Table table("<w");
  if (!next.empty()) table.add({"next      ", next});
  for (const auto& shelf : defined.shelves) {
    table.add({"shelf     ", printable(shelf) + " (started)"});
  }
  for (const auto& place : defined.waiting) {
    table.add({"then on   ", printable(place) + " (ready)"});
  }
  for (const auto& shelf : defined.known) table.add({"shelf     ", printable(shelf)});
  fmt::print("{}", table.text());
  auto missing = missing_paths(job);
  std::vector<JobProblem> unwise = unwise_rules(job);
  if (!missing.empty() || !unwise.empty()) context.say();
  for (const auto& line : missing) context.say("note: " + line);
  for (const JobProblem& problem : unwise) context.say("warning: " + problem.text());
  context.say();
  if (defined.shelves.empty() && defined.known.empty()) {
    context.say("The disk is not there. Once it is: kestrum shelf start " + job.name);
    return;
  }
  if (job.encrypted && !defined.shelves.empty()) {
    context.say(
        "Without the passphrase nothing can be restored, by anybody: write it down and keep it "
        "away from this PC. The recovery card to print: kestrum passphrase " +
        job.name + " --card " + job.name + ".pdf");
  }
  if (!job.when.empty()) {
    context.say("So that it runs by itself: kestrum schedule install (once for all jobs)");
  }
}

int job_new(const Context& context, const Args& args) {
  const std::string usage = "kestrum job new NAME --from PATH --to PLACE";
  args.expect(0, 1, usage);
  std::string name = args.positional().empty() ? "" : args.positional()[0];
  JobValues values = values_from(args);
  bool missing =
      name.empty() || !values.contains("source.folders") || !values.contains("destination.places");
  if (!name.empty()) context.jobs().check_new_name(name);
  bool asked = missing && can_ask(context);
  if (asked) ask_for_missing(context, name, values, args.has("same-disk"));
  if (name.empty()) throw Error(ErrorKind::kUsage, "something is missing: " + usage);
  if (!values.contains("source.folders")) {
    throw Error(ErrorKind::kUsage, "what is to be copied? --from PATH", usage);
  }
  if (!values.contains("destination.places")) {
    throw Error(ErrorKind::kUsage, "where to? --to PLACE", usage);
  }

  std::string text = render_job(values);
  Job job = checked_job(name, text, "kestrum help job new");
  if (asked) {
    fmt::print("\n{}\n{}", name, job_in_words(context, job));
    if (!ask_yes("Define this job?", true)) {
      context.say("nothing was defined");
      return 130;
    }
  }
  Defined defined = define_job(context, args, job, text, false);
  if (context.json) {
    context.print_json(
        {{"job", name}, {"file", context.jobs().path(name)}, {"shelves", defined.shelves}});
    return 0;
  }
  context.say(fmt::format("{} is defined: {}", name, context.jobs().path(name)));
  context.say();
  print_defined(context, job, defined);
  if (!asked || defined.shelves.empty()) {
    if (!defined.shelves.empty()) context.say("next: kestrum run " + name);
    return 0;
  }
  if (ask_yes("Look at what the first run would copy?", true)) {
    ReadObserver observer(context);
    ForecastOptions options;
    options.stop = stop_requested;
    Forecast forecast = make_forecast(context.machine(), job, options, context.clock, observer);
    observer.end();
    print_forecast(context, name, forecast);
  }
  if (!ask_yes("Run it now?", true)) {
    context.say("next: kestrum run " + name);
    return 0;
  }
  RunRequest request;
  request.job = name;
  return run_job(context, args, request).exit;
}

}  // namespace kestrum::cli
