#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>

#include "command.h"
#include "job_definition.h"
#include "job_words.h"
#include "kestrum/access/open_shelf.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/forecast.h"
#include "kestrum/job/job_file.h"
#include "kestrum/job/job_keys.h"
#include "kestrum/select/litter.h"
#include "left_out_words.h"
#include "mailing.h"
#include "read_observer.h"
#include "table.h"
#include "unattended_words.h"

namespace kestrum::cli {
namespace {

Json problem_json(const JobProblem& problem) {
  return {{"error", problem.error},
          {"key", problem.key.empty() ? Json(nullptr) : Json(problem.key)},
          {"line", problem.line == 0 ? Json(nullptr) : Json(problem.line)},
          {"message", problem.message}};
}

// Names are bytes: as the job file has them.
Json escaped(const std::vector<std::string>& names) {
  Json list = Json::array();
  for (const std::string& name : names) list.push_back(with_escaped_bytes(name));
  return list;
}

Json value_json(const KeyValue& value) {
  return std::visit([](const auto& v) { return Json(v); }, value);
}

}  // namespace

int job_list(const Context& context, const Args& args) {
  args.expect(0, 0, "kestrum job list");
  Json list = Json::array();
  Table table("<ppw");
  for (const auto& name : context.jobs().names()) {
    ParsedJob parsed = context.jobs().parse(name);
    const Job& job = parsed.job;
    list.push_back({{"job", name},
                    {"title", job.title},
                    {"folders", escaped(job.folders)},
                    {"places", escaped(job.places)},
                    {"usable", parsed.usable()}});
    if (!parsed.usable()) {
      table.add({name, "cannot be used", "kestrum job check " + name, ""});
      continue;
    }
    auto some = [](const std::vector<std::string>& paths) {
      std::string text = printable(paths[0]);
      return paths.size() > 1 ? text + fmt::format(" and {} more", paths.size() - 1) : text;
    };
    table.add({name, some(job.folders), "to " + some(job.places), printable(job.title)});
  }
  if (context.json) {
    context.print_json({{"jobs", list}});
    return 0;
  }
  context.say(list.empty() ? "no jobs yet" : counted(list.size(), "job") + " on this PC");
  fmt::print("{}", table.text());
  if (list.empty()) context.say("next: kestrum job new NAME --from PATH --to PLACE");
  return 0;
}

int job_show(const Context& context, const Args& args) {
  args.expect(1, 1, "kestrum job show NAME");
  const std::string& name = args.positional()[0];
  Job job = context.jobs().load(name);
  std::vector<ShelfState> shelves = context.machine().shelves(name);
  if (context.json) {
    Json keys = Json::object(), differ = Json::array(), on = Json::array();
    for (const JobKey& key : job_keys()) {
      keys[key.id()] = value_json(job.values.at(key.id()));
      if (job.values.at(key.id()) != key.default_value) differ.push_back(key.id());
    }
    for (const ShelfState& shelf : shelves)
      on.push_back(shelf.record.place + "/" + shelf.record.folder);
    context.print_json({{"job", name},
                        {"file", context.jobs().path(name)},
                        {"keys", keys},
                        {"changed", differ},
                        {"shelves", on},
                        {"litter", litter_patterns()}});
    return 0;
  }
  context.say(fmt::format("{}: {}", name, context.jobs().path(name)));
  context.say();
  fmt::print("{}", job_in_words(context, job));
  for (const ShelfState& shelf : shelves) {
    context.say(
        fmt::format("  shelf       {}/{}", printable(shelf.record.place), shelf.record.folder));
  }
  std::string section = "-";
  for (const JobKey& key : job_keys()) {
    if (key.section != section) {
      section = key.section;
      context.say(section.empty() ? "" : "[" + section + "]");
    }
    const KeyValue& value = job.values.at(key.id());
    std::string mark = value != key.default_value ? "* " : "  ";
    std::string line = fmt::format("  {}{} = {}", mark, key.name, printable(toml_text(value)));
    output_screen().terminal ? context.say(line) : context.data(line, "");
    context.say("      # " + key.comment);
  }
  context.say("\n* differs from the default");
  if (job.rules.leave_out_litter) {
    std::string patterns;
    for (const auto& pattern : litter_patterns()) patterns += pattern + " ";
    Table litter("<w");
    litter.add({"litter", patterns + "and folders marked by a CACHEDIR.TAG"});
    fmt::print("{}", litter.text(0));
  }
  return 0;
}

int job_check(const Context& context, const Args& args) {
  args.expect(0, 1, "kestrum job check [NAME]");
  std::vector<std::string> names = args.positional();
  if (names.empty()) names = context.jobs().names();
  Json list = Json::array();
  int exit = 0;
  for (const auto& name : names) {
    ParsedJob parsed = context.jobs().parse(name);
    Json problems = Json::array();
    std::vector<std::string> lines;
    bool error = false;
    std::size_t errors = 0;
    if (auto no_mail = why_no_mail(context.home, parsed.job)) {
      parsed.problems.push_back({true, "report.mail_to", 0, *no_mail});
    }
    for (JobProblem problem : parsed.problems) {
      problem.error |= problem.no_effect;
      error |= problem.error;
      errors += problem.error;
      problems.push_back(problem_json(problem));
      lines.push_back((problem.error ? "  " : "  warning: ") + problem.text());
    }
    Json takes = nullptr;
    std::string summary;
    auto unattended =
        error ? std::vector<UnattendedProblem>() : unattended_problems(context, parsed.job);
    for (const UnattendedProblem& problem : unattended) {
      std::string text = "by a timer or cron: " + problem.text;
      problems.push_back(problem_json({false, problem.key, 0, text}));
      lines.push_back("  warning: " + problem.key + ": " + text);
    }
    if (!error && !parsed.job.mail_to.empty()) {
      if (std::string why = why_no_mail_server(context); !why.empty()) {
        problems.push_back(problem_json({false, "report.mail_to", 0, "mail.toml: " + why}));
        lines.push_back("  warning: report.mail_to: mail.toml: " + why);
      }
    }
    if (!error) {
      bool told = std::any_of(unattended.begin(), unattended.end(), [](const auto& problem) {
        return problem.key == "destination.places";
      });
      for (const auto& missing : missing_paths(parsed.job)) {
        if (told && missing.starts_with("destination.places: not plugged in")) continue;
        problems.push_back(problem_json({false, "", 0, missing}));
        lines.push_back("  note: " + missing);
      }
      ReadObserver observer(context);
      ExpectedChanges found =
          survey(context.machine(), parsed.job, context.clock.now(), stop_requested, observer);
      observer.end();
      for (const Warning& warning : found.warnings) {
        if (!is_named(warning.path)) continue;  // said above
        std::string text = printable(warning.path) + ": " + printable(warning.reason);
        problems.push_back(problem_json({false, "source.folders", 0, text}));
        lines.push_back("  warning: " + text);
      }
      takes = {{"files", found.files.copied}, {"bytes", found.bytes.copied}};
      summary = fmt::format("  takes {}, {}", counted(found.files.copied, "file"),
                            format_size(found.bytes.copied));
      std::string words = left_out_words(found.left_out);
      if (!words.empty()) summary += "\n  " + words;
    }
    exit = worse_exit(exit, error ? 2 : lines.empty() ? 0 : 1);
    list.push_back({{"job", name}, {"usable", !error}, {"problems", problems}, {"takes", takes}});
    context.say(fmt::format("{}: {}", name,
                            error ? counted(errors, "error") + " in " + context.jobs().path(name)
                            : lines.empty() ? "all right"
                                            : "can be used, with notes"));
    if (!summary.empty()) context.say(summary);
    for (const auto& line : lines) context.say(line);
  }
  if (context.json) context.print_json({{"jobs", list}});
  if (names.empty()) context.say("no jobs yet");
  return exit;
}

int job_categories(const Context& context, const Args& args) {
  args.expect(0, 0, "kestrum job categories");
  Json json = Json::object();
  for (const FileCategory& category : file_categories()) json[category.name] = category.extensions;
  if (context.json) {
    context.print_json({{"categories", json}});
    return 0;
  }
  context.say("file categories for --only, by the ending of a file's name");
  for (const FileCategory& category : file_categories()) {
    std::string line = fmt::format("  {:<14}", category.name);
    for (const auto& extension : category.extensions) {
      if (line.size() + extension.size() > 97) {
        context.say(line);
        line = std::string(16, ' ');
      }
      line += extension + " ";
    }
    context.say(line);
  }
  return 0;
}

}  // namespace kestrum::cli
