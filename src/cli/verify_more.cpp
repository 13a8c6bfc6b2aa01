#include "verify_more.h"

#include <fmt/format.h>

#include "kestrum/access/find_shelf.h"
#include "kestrum/access/job_reader.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/against_source.h"
#include "kestrum/inspect/verify_some.h"
#include "read_observer.h"
#include "table.h"

namespace kestrum::cli {
namespace {

constexpr std::size_t kFindingsShown = 10;  // of each kind
constexpr const char* kSampleUsage = "kestrum verify NAME --sample PERCENT";
constexpr const char* kSourceUsage = "kestrum verify NAME --against-source [--point TIME]";

unsigned percent_of(const std::string& text) {
  std::string digits = text.ends_with('%') ? text.substr(0, text.size() - 1) : text;
  auto percent = parse_number(digits, 100);
  if (percent && *percent > 0) return *percent;
  throw Error(ErrorKind::kUsage,
              "--sample: \"" + printable(text) + "\" is no share such as \"10%\"", kSampleUsage);
}

}  // namespace

JobAnswer verify_sample(const Context& context, const Args& args) {
  for (const char* other : {"contents", "point", "against-source"}) {
    if (args.has(other)) {
      throw Error(ErrorKind::kUsage, std::string("either --sample or --") + other, kSampleUsage);
    }
  }
  VerifySomeRequest request;
  request.percent = percent_of(*args.get("sample"));
  request.seed = random_seed();
  request.stop = stop_requested;
  ReadOptions options = read_options(context, args, kSampleUsage, false);
  std::vector<KnownShelf> shelves;
  if (options.job) {
    shelves = known_shelves(context.machine(), *options.job, options.on);
  } else {
    shelves.push_back(shelf_in_folder(context.machine(), options.shelf_folder));
  }
  JobAnswer answer;
  Json damage = Json::array();
  VerifySomeResult sum;
  std::string job = options.job ? options.job->name : "";
  bool any = false;
  ReadObserver observer(context);
  for (KnownShelf& known : shelves) {
    if (!known.open) {
      context.tell(printable(known.why_not->message()) + "; nothing of it was checked");
      continue;
    }
    any = true;
    if (job.empty()) job = known.open->shelf.label().job;
    VerifySomeResult result = verify_some(*known.open, request, observer);
    observer.end();
    if (result.stopped && stop_requested()) throw Error(ErrorKind::kStopped, "stopped");
    sum.sets += result.sets;
    sum.parts += result.parts;
    sum.bytes += result.bytes;
    std::string name = job_on_disk(job, known.disk);
    std::string read = fmt::format("{} of {} read, of {}", format_size(result.bytes),
                                   format_size(result.all_bytes), counted(result.sets, "set"));
    if (result.damage.empty()) {
      context.say(
          fmt::format("{}: {}: {}", name, coloured("no damage in what was read", kGreen), read));
    } else {
      answer.exit = 4;
      context.say(fmt::format("{}: {} in {} ({})", name, coloured("damage found", kRed),
                              counted(result.damage.size(), "place"), read));
    }
    if (result.lacks_disk) {
      context.say("  what lies on disks of this shelf that are not plugged in was passed over");
    }
    for (const Damage& found : result.damage) {
      context.say(
          fmt::format("  {} {}: {}", found.set->to_string(), found.file, printable(found.reason)));
      damage.push_back({{"set", found.set->to_string()},
                        {"file", found.file},
                        {"reason", printable(found.reason)},
                        {"paths", Json::array()},
                        {"disk", disk_json(known.disk)}});
    }
    if (!result.damage.empty())
      context.say("which files it hurts: kestrum verify " + printable(job));
  }
  if (!any) throw shelves.front().why_not.value();
  answer.json = {
      {"job", job},
      {"checked", {{"sets", sum.sets}, {"parts", sum.parts}, {"files", 0}, {"bytes", sum.bytes}}},
      {"damage", damage},
      {"restorable", nullptr}};
  return answer;
}

JobAnswer verify_against_source(const Context& context, const Args& args) {
  for (const char* other : {"contents", "sample", "shelf"}) {
    if (args.has(other)) {
      throw Error(ErrorKind::kUsage, std::string("either --against-source or --") + other,
                  kSourceUsage);
    }
  }
  ReadObserver observer(context);
  JobReader reader(context.machine(), read_options(context, args, kSourceUsage, false), observer);
  JobReader::Point point = reader.choose(args.get("point"), context.clock.now());
  std::map<SourceFinding, std::vector<std::string>> found;
  SourceTotals totals = hold_against_source(*point.session, point.set, stop_requested, observer,
                                            [&](SourceFinding finding, const std::string& path) {
                                              bool all = context.json || context.verbose ||
                                                         found[finding].size() < kFindingsShown;
                                              if (all) found[finding].push_back(path);
                                            });
  observer.end();
  JobAnswer answer;
  std::uint64_t wrong = totals.count(SourceFinding::kWrong),
                failed = totals.count(SourceFinding::kFailed);
  answer.exit = wrong > 0 ? 4 : failed > 0 ? 1 : 0;
  auto names = [&](SourceFinding finding) {
    Json list = Json::array();
    for (const std::string& path : found[finding]) {
      Json item;
      put_name(item, "path", path);
      list.push_back(std::move(item));
    }
    return list;
  };
  const IndexedSet& set = point.session->set(point.set);
  std::uint64_t all = 0;
  for (std::uint64_t files : totals.files) all += files;
  answer.json = {{"job", reader.job_name()},
                 {"set", point.set.to_string()},
                 {"disk", disk_json(point.session->disk())},
                 {"checked", {{"sets", 1}, {"parts", 0}, {"files", all}, {"bytes", totals.bytes}}},
                 {"same", totals.count(SourceFinding::kSame)},
                 {"changed", names(SourceFinding::kChangedSince)},
                 {"gone", names(SourceFinding::kGoneSince)},
                 {"wrong", names(SourceFinding::kWrong)},
                 {"failed", names(SourceFinding::kFailed)}};
  if (context.json) return answer;
  std::string name = job_on_disk(reader.job_name(), "");
  context.say(fmt::format("{}: {} of {}, held against this PC: {}", name,
                          point.session->name_of(point.set), format_local_day(set.started),
                          wrong == 0 ? coloured("no file is other than it should be", kGreen)
                                     : coloured(counted(wrong, "file") + " WRONG", kRed)));
  Table table("<>");
  for (SourceFinding finding :
       {SourceFinding::kSame, SourceFinding::kChangedSince, SourceFinding::kGoneSince,
        SourceFinding::kWrong, SourceFinding::kFailed}) {
    if (totals.count(finding) == 0 && finding != SourceFinding::kSame) continue;
    table.add({finding_name(finding), format_count(totals.count(finding))});
  }
  fmt::print("{}", table.text());
  for (SourceFinding finding : {SourceFinding::kWrong, SourceFinding::kFailed}) {
    for (const std::string& path : found[finding]) {
      context.data(std::string("  ") + finding_name(finding) + "  ", printable(path));
    }
    if (totals.count(finding) > found[finding].size()) {
      context.say(fmt::format("  and {} more; --verbose names them all",
                              totals.count(finding) - found[finding].size()));
    }
  }
  if (wrong > 0) {
    context.say(
        "They look as they did when they were copied, and hold something else: either the file "
        "on this PC or what is stored is damaged. Which: kestrum verify " +
        reader.job_name() + " --contents");
  }
  return answer;
}

}  // namespace kestrum::cli
