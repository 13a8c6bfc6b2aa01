#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "command.h"
#include "file_filter.h"
#include "kestrum/access/job_reader.h"
#include "kestrum/base/file.h"
#include "kestrum/base/shell_word.h"
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
  if (!version.sound) add("SUSPECT");
  return text;
}

// Of the versions of a file, the newest first, the one that is most likely wanted back: what is on
// the PC still is hardly what somebody looks for, and what only a suspect set holds may be what
// they fear.
const TracedVersion& likely_wanted(const std::vector<TracedVersion>& versions) {
  bool there = versions[0].end == TracedVersion::End::kStillThere;
  std::size_t first = there && versions.size() > 1 ? 1 : 0;
  for (std::size_t i = first; i < versions.size(); ++i) {
    if (versions[i].sound) return versions[i];
  }
  return versions[versions[0].sound ? 0 : first];
}

// What is found, printed as it comes: whole up to so many files, then by folder.
class Tracing {
 public:
  Tracing(const Context& context, const Args& args)
      : context_(context), filter_(args, context.clock.now()) {}

  void look(JobReader& reader, const std::string& pattern, bool ignore_case) {
    trace(
        reader.sessions(), pattern, ignore_case, stop_requested,
        [&](const std::vector<TracedVersion>& versions_of_path) {
          std::vector<TracedVersion> versions = filtered(versions_of_path);
          if (versions.empty()) return;
          ++found_;
          if (context_.json) {
            for (const TracedVersion& version : versions) {
              versions_.push_back(version_json(reader.job_name(), version));
            }
          } else if (found_ <= kWholeFiles) {
            print(versions, versions_of_path[0].sets == versions[0].sets);
          } else if (by_folder_.size() < kMostFolders || by_folder_.contains(folder_of(versions))) {
            ++by_folder_[folder_of(versions)];
          }
        });
  }

  // What was too much to be printed.
  void print_rest() const {
    if (found_ <= kWholeFiles || context_.json) return;
    context_.say(fmt::format("and {} more:", counted(found_ - kWholeFiles, "file")));
    std::vector<std::pair<std::string, std::uint64_t>> folders(by_folder_.begin(),
                                                               by_folder_.end());
    std::stable_sort(folders.begin(), folders.end(),
                     [](const auto& a, const auto& b) { return a.second > b.second; });
    Table table(">p");
    for (std::size_t i = 0; i < std::min(kFoldersShown, folders.size()); ++i) {
      table.add({format_count(folders[i].second), printable(folders[i].first) + "/"});
    }
    fmt::print("{}", table.text());
    if (folders.size() > kFoldersShown) {
      context_.say(
          fmt::format("  and {} more folders", format_count(folders.size() - kFoldersShown)));
    }
    context_.say(
        "to find fewer: a folder before the name (Letters/*.odt), --changed-after TIME, "
        "--bigger-than SIZE, --only CATEGORY, --gone");
  }

  std::uint64_t found() const { return found_; }  // paths
  const Json& versions() const { return versions_; }
  // A version of the first file that was found that may be wanted back.
  const TracedVersion& first() const { return first_; }
  // Its name, or its path where others have the name too. What is found by a pattern without a
  // slash is all that has a name.
  std::string shortest_name(const std::string& pattern) const {
    bool alone = same_name_ == 1 && found_ <= kWholeFiles && !filter_.active() &&
                 pattern.find('/') == std::string::npos && !base_name(first_.path).starts_with('-');
    return alone ? pattern_of_path(base_name(first_.path)) : pattern_of_path(first_.path);
  }

 private:
  static constexpr std::size_t kWholeFiles = 40, kFoldersShown = 10, kMostFolders = 100'000;

  static std::string folder_of(const std::vector<TracedVersion>& versions) {
    return parent_of(versions[0].path);
  }

  std::vector<TracedVersion> filtered(const std::vector<TracedVersion>& all) const {
    if (!filter_.active()) return all;
    std::vector<TracedVersion> taken;
    auto end = all[0].end;
    bool gone = end == TracedVersion::End::kGone || end == TracedVersion::End::kNotThere;
    if (filter_.gone() && !gone) return taken;
    for (const TracedVersion& version : all) {
      bool file = version.type == EntryType::kFile;
      if (file && filter_.takes(version.path.substr(1), version.size, version.modified)) {
        taken.push_back(version);
      }
    }
    return taken;
  }

  // `newest_first`: the first is the newest version of the file.
  void print(const std::vector<TracedVersion>& versions, bool newest_first) {
    if (found_ == 1) first_ = likely_wanted(versions);
    same_name_ += base_name(versions[0].path) == base_name(first_.path);
    context_.data("", printable(versions[0].path));
    Table table("<><<w");
    if (found_ == 1) table.add({"changed", "size", "there from", "until", "in sets"});
    for (std::size_t i = 0; i < versions.size(); ++i) {
      const TracedVersion& version = versions[i];
      std::string sets = sets_in_words(version),
                  remark = remark_on(version, newest_first && i == 0);
      table.add({format_local(version.modified), format_size(version.size),
                 format_local(version.first_seen), format_local(version.last_seen),
                 remark.empty() ? sets : sets + ", " + remark});
    }
    fmt::print("{}", table.text());
  }

  const Context& context_;
  FileFilter filter_;
  Json versions_ = Json::array();
  std::uint64_t found_ = 0, same_name_ = 0;
  TracedVersion first_;
  std::map<std::string, std::uint64_t> by_folder_;
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
    std::uint64_t before = tracing.found();
    tracing.look(reader, pattern, ignore_case);
    // A part of a name, as it is told on the phone.
    bool name = !has_wildcard(pattern) && pattern.find('/') == std::string::npos;
    if (tracing.found() == before && name) tracing.look(reader, "*" + pattern + "*", true);
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
  if (context.json) context.print_json({{"versions", tracing.versions()}});
  tracing.print_rest();
  if (tracing.found() == 0) {
    if (context.json) return 9;
    throw Error(ErrorKind::kNoMatch,
                "nothing is called " + printable(pattern) +
                    (all ? fmt::format(" in {}", counted(jobs, "job"))
                         : std::string(" at any restore point")) +
                    (left_out.empty() ? "" : " of the disks that could be looked at"),
                "part of a name with stars: kestrum trace NAME '*rota*'");
  }
  if (!context.json && !all && !by_shelf) {
    const TracedVersion& first = tracing.first();
    context.say();
    context.say("next: kestrum restore " + args.positional()[0] + " " +
                shell_word(tracing.shortest_name(pattern)) + " --point " +
                first.sound.value_or(first.sets.back()).to_string() +
                (several ? shell_option("on", first.disk) : "") + " --in-place --clash both");
  }
  return 0;
}

}  // namespace kestrum::cli
