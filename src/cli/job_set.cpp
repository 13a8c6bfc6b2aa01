// Changing one key of a job from the command line.
#include <fmt/format.h>

#include <algorithm>

#include "command.h"
#include "job_definition.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/job/change_in_words.h"
#include "kestrum/job/edit_key.h"
#include "kestrum/job/job_file.h"

namespace kestrum::cli {
namespace {

const JobKey& key_named(const std::string& id) {
  std::vector<std::string> known;
  for (const JobKey& key : job_keys()) {
    if (key.id() == id) return key;
    known.push_back(key.id());
  }
  // Somebody may have left the section out.
  for (const JobKey& key : job_keys()) {
    if (key.name != id) continue;
    throw Error(ErrorKind::kUsage, "no key \"" + printable(id) + "\"",
                "did you mean " + key.id() + "?");
  }
  auto near = nearest_word(id, known);
  throw Error(ErrorKind::kUsage, "no key \"" + printable(id) + "\"",
              near ? "did you mean " + *near + "?" : "all of them: kestrum job show NAME");
}

// A place or a folder is made absolute as it is when a job is defined.
std::string as_meant(const std::string& id, const std::string& typed) {
  if (id == "source.folders") return typed_source(typed);
  if (id == "destination.places") return typed_place(typed);
  return typed;
}

KeyValue one_value(const JobKey& key, const std::string& typed) {
  if (std::holds_alternative<bool>(key.default_value)) {
    std::string word = lower_ascii(typed);
    if (word == "true" || word == "yes" || word == "on") return true;
    if (word == "false" || word == "no" || word == "off") return false;
    throw Error(ErrorKind::kUsage,
                key.id() + ": \"" + printable(typed) + "\" is not true or false");
  }
  if (std::holds_alternative<std::int64_t>(key.default_value)) {
    auto number = parse_number(typed, INT32_MAX);
    if (number) return std::int64_t{*number};
    throw Error(ErrorKind::kUsage, key.id() + ": \"" + printable(typed) + "\" is not a number");
  }
  return typed;
}

KeyValue new_value(const JobKey& key, const KeyValue& old, const std::vector<std::string>& typed,
                   bool add, bool drop) {
  const auto* before = std::get_if<std::vector<std::string>>(&old);
  if (before == nullptr) {
    if (add || drop) {
      throw Error(ErrorKind::kUsage, key.id() + " has one value: --add and --drop are for lists");
    }
    if (typed.size() != 1) {
      throw Error(ErrorKind::kUsage, key.id() + " has one value",
                  "one with blanks in it is put in quotes");
    }
    return one_value(key, typed[0]);
  }
  std::vector<std::string> list = add || drop ? *before : std::vector<std::string>{};
  for (const std::string& word : typed) {
    std::string value = as_meant(key.id(), word);
    auto at = std::find(list.begin(), list.end(), value);
    if (drop && at == list.end()) {
      throw Error(ErrorKind::kUsage, key.id() + " does not hold \"" + printable(word) + "\"",
                  "it is " + printable(toml_text(old)));
    }
    if (drop) list.erase(at);
    if (!drop && at == list.end()) list.push_back(std::move(value));
  }
  return list;
}

}  // namespace

int job_set(const Context& context, const Args& args) {
  const std::string usage = "kestrum job set NAME SECTION.KEY VALUE... [--add|--drop]";
  args.expect(2, 1000, usage);
  const std::string &name = args.positional()[0], &id = args.positional()[1];
  bool add = args.has("add"), drop = args.has("drop");
  if (add && drop) throw Error(ErrorKind::kUsage, "either --add or --drop", usage);
  const JobKey& key = key_named(id);
  std::vector<std::string> typed(args.positional().begin() + 2, args.positional().end());
  bool list = std::holds_alternative<std::vector<std::string>>(key.default_value);
  if (typed.empty() && (!list || add || drop)) {
    throw Error(ErrorKind::kUsage, "which value? usage: " + usage);
  }
  ParsedJob before = context.jobs().parse(name);
  std::string path = context.jobs().path(name);
  KeyValue value = new_value(key, before.job.values.at(id), typed, add, drop);
  std::string old_text = read_file(path), text = edit_key(old_text, id, value);
  // Another key that is wrong already is no reason to refuse to mend this one.
  ParsedJob after = parse_job(name, text);
  for (const JobProblem& problem : after.problems) {
    if (problem.error && problem.key == id) {
      throw Error(ErrorKind::kUsage, id + ": " + problem.message, "nothing was changed")
          .about_job(name);
    }
  }
  bool changed = value != before.job.values.at(id);
  if (changed) write_file(path, text);
  if (context.json) {
    context.print_json({{"job", name}, {"key", id}, {"changed", changed}});
    return 0;
  }
  context.say(fmt::format("{}: {} = {}{}", name, id, printable(toml_text(value)),
                          changed ? "" : ", as it was"));
  if (!changed) return 0;
  context.say("  it was " + printable(toml_text(before.job.values.at(id))));
  if (before.usable() && after.usable()) {
    std::string meaning = change_in_words(before.job, after.job);
    if (!meaning.empty()) context.say("  " + meaning);
  }
  for (const JobProblem& problem : after.problems) context.say("  warning: " + problem.text());
  return 0;
}

}  // namespace kestrum::cli
