#include <fmt/format.h>

#include "command.h"
#include "kestrum/access/job_reader.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/trace.h"
#include "kestrum/select/pattern.h"
#include "read_observer.h"
#include "table.h"

namespace kestrum::cli {
namespace {

const char* end_name(TracedVersion::End end) {
  switch (end) {
    case TracedVersion::End::kStillThere:
      return "there";
    case TracedVersion::End::kReplaced:
      return "replaced";
    case TracedVersion::End::kGone:
      return "gone";
    case TracedVersion::End::kLeftOut:
      return "left out";
    case TracedVersion::End::kNotThere:
      return "not there";
  }
  return "there";
}

Json version_json(const std::string& job, const TracedVersion& version) {
  Json json = {{"job", job},
               {"type", type_name(version.type)},
               {"size", version.size},
               {"modified", format_rfc3339(version.modified)},
               {"digest", version.digest ? Json(to_hex(*version.digest)) : Json(nullptr)},
               {"first_seen", format_rfc3339(version.first_seen)},
               {"last_seen", format_rfc3339(version.last_seen)},
               {"state", end_name(version.end)}};
  put_name(json, "path", version.path);
  json["moved_to"] = json["moved_from"] = nullptr;
  if (!version.moved_to.empty()) put_name(json, "moved_to", version.moved_to);
  if (!version.moved_from.empty()) put_name(json, "moved_from", version.moved_from);
  json["disk"] = disk_json(version.disk);
  json["sets"] = Json::array();
  for (SetId set : version.sets) json["sets"].push_back(set.to_string());
  return json;
}

std::string sets_in_words(const TracedVersion& version) {
  const std::vector<SetId>& sets = version.sets;
  std::string text = sets.front().to_string();
  if (sets.size() > 1) text += (sets.size() == 2 ? ", " : " to ") + sets.back().to_string();
  return version.disk.empty() ? text : text + " on " + version.disk;
}

std::string remark_on(const TracedVersion& version, bool newest) {
  std::string text;
  if (!version.moved_from.empty()) text = "was " + printable(version.moved_from);
  auto add = [&](const std::string& more) { text += (text.empty() ? "" : "; ") + more; };
  if (version.end == TracedVersion::End::kLeftOut) add("left out since");
  if (version.end == TracedVersion::End::kNotThere) add("not in " + printable(version.not_at));
  if (version.end == TracedVersion::End::kGone) {
    add(version.moved_to.empty() ? "deleted since" : "became " + printable(version.moved_to));
  }
  if (newest && version.end == TracedVersion::End::kStillThere && text.empty()) text = "newest";
  return text;
}

struct Tracing {
  const Context& context;
  const Args& args;
  Json versions = Json::array();
  std::uint64_t found = 0, paths = 0;  // paths: printed

  void print(const std::vector<TracedVersion>& path_versions) {
    context.say(printable(path_versions[0].path));
    Table table("<><<w");
    if (paths++ == 0) table.add({"changed", "size", "there from", "until", "in sets"});
    for (std::size_t i = 0; i < path_versions.size(); ++i) {
      const TracedVersion& version = path_versions[i];
      std::string sets = sets_in_words(version), remark = remark_on(version, i == 0);
      table.add({format_local(version.modified), format_size(version.size),
                 format_local(version.first_seen), format_local(version.last_seen),
                 remark.empty() ? sets : sets + ", " + remark});
    }
    fmt::print("{}", table.text());
  }

  void look(JobReader& reader, const std::string& pattern, bool ignore_case) {
    found += trace(reader.sessions(), pattern, ignore_case, stop_requested,
                   [&](const std::vector<TracedVersion>& versions_of_path) {
                     if (!context.json) return print(versions_of_path);
                     for (const TracedVersion& version : versions_of_path) {
                       versions.push_back(version_json(reader.job_name(), version));
                     }
                   });
  }
};

}  // namespace

int trace_files(const Context& context, const Args& args) {
  const std::string usage = "kestrum trace NAME PATTERN, or kestrum trace --all PATTERN";
  bool all = args.has("all"), by_shelf = args.has("shelf");
  if (all && by_shelf) throw Error(ErrorKind::kUsage, "either --all or --shelf", usage);
  args.expect(all || by_shelf ? 1 : 2, all || by_shelf ? 1 : 2, usage);
  const std::string& pattern = args.positional().back();
  bool ignore_case = args.has("ignore-case");
  Tracing tracing{context, args};
  ReadObserver observer(context);
  auto in_job = [&](JobReader& reader) {
    std::uint64_t before = tracing.found;
    tracing.look(reader, pattern, ignore_case);
    // A part of a name, as it is told on the phone.
    bool name = !has_wildcard(pattern) && pattern.find('/') == std::string::npos;
    if (tracing.found == before && name) tracing.look(reader, "*" + pattern + "*", true);
  };
  std::uint64_t jobs = 0;
  bool several = false;
  std::vector<std::string> left_out;
  if (all) {
    for (const auto& job : context.jobs().names()) {
      try {
        ReadOptions options;
        options.job = context.jobs().load(job);
        options.keys.passphrase = [&] {
          return find_passphrase(args, job, options.job->passphrase_from, false);
        };
        options.on = args.get("on");
        JobReader reader(context.machine(), options, observer);
        reader.sessions();
        if (!context.json) context.say(job + ":");
        in_job(reader);
        ++jobs;
      } catch (const Error& error) {
        if (error.kind() == ErrorKind::kStopped) throw;
        observer.note(job + ": " + error.message());
      }
    }
  } else {
    JobReader reader(context.machine(), read_options(context, args, usage, false), observer);
    in_job(reader);
    several = reader.several();
    left_out = reader.left_out();
  }
  observer.end();
  if (context.json) context.print_json({{"versions", tracing.versions}});
  if (tracing.found == 0) {
    if (context.json) return 9;
    throw Error(ErrorKind::kNoMatch,
                "nothing is called " + printable(pattern) +
                    (all ? fmt::format(" in {}", counted(jobs, "job"))
                         : std::string(" at any restore point")) +
                    (left_out.empty() ? "" : " of the disks that could be looked at"),
                "part of a name with stars: kestrum trace NAME '*rota*'");
  }
  if (!context.json && !all && !by_shelf) {
    context.say();
    context.say("next: kestrum restore " + args.positional()[0] + " PATH --point SET" +
                (several ? " --on DISK" : "") + " --to DIR, with a path and a set from above");
  }
  return 0;
}

}  // namespace kestrum::cli
