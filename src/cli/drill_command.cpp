#include <fmt/format.h>

#include <map>

#include "command.h"
#include "each_job.h"
#include "kestrum/access/job_reader.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/restore/drill.h"
#include "read_observer.h"
#include "table.h"

namespace kestrum::cli {
namespace {

constexpr unsigned kMostFiles = 100'000;
constexpr std::size_t kCausesShown = 20, kNamesShown = 3;

// By set and cause, with a few of the files that each hurts.
void print_causes(const Context& context, const std::vector<DrillMismatch>& mismatches) {
  std::map<std::pair<SetId, std::string>, std::vector<std::string>> causes;
  for (const DrillMismatch& wrong : mismatches) {
    causes[{wrong.set, wrong.reason}].push_back(wrong.path);
  }
  std::size_t shown = 0;
  for (const auto& [cause, paths] : causes) {
    if (++shown > kCausesShown) break;
    context.say(fmt::format("  {}: {}: {}", cause.first.to_string(), printable(cause.second),
                            counted(paths.size(), "file")));
    for (std::size_t i = 0; i < std::min(kNamesShown, paths.size()); ++i) {
      context.data("    ", printable(paths[i]));
    }
    if (paths.size() > kNamesShown) {
      context.say(
          fmt::format("    and {} more; --json names them all", paths.size() - kNamesShown));
    }
  }
  if (causes.size() > kCausesShown) {
    context.say(fmt::format("  and {} more causes", causes.size() - kCausesShown));
  }
}

void print_result(const Context& context, const ReadSession& session, const DrillResult& result) {
  std::string job = printable(session.job_name());
  std::string name = job_on_disk(session.job_name(), session.disk());
  std::string what =
      fmt::format("{} ({}) from {}", counted(result.files, "file"), format_size(result.bytes),
                  counted(result.restore_points, "restore point"));
  if (result.mismatches.empty()) {
    context.say(fmt::format("{}: {}: {} restored, compared and thrown away", name,
                            coloured("all came back right", kGreen), what));
  } else {
    context.say(fmt::format(
        "{}: {} of {}", name,
        coloured(counted(result.mismatches.size(), "file") + " did not come back right", kRed),
        what));
  }
  print_causes(context, result.mismatches);
  if (result.away > 0) {
    context.say("  " + counted(result.away, "file") +
                " left out: on a disk of this shelf that is not plugged in");
  }
  if (result.too_large > 0) {
    context.say(fmt::format("  {} too large for the room in the state folder",
                            counted(result.too_large, "file") + " left out:"));
  }
  if (!result.mismatches.empty()) {
    context.say("next: kestrum verify " + job + " --contents");
  }
}

constexpr const char* kDrillUsage = "kestrum drill NAME [--files N]";

JobAnswer drill_job(const Context& context, const Args& args) {
  DrillRequest request;
  request.files = args.number("files", 1, kMostFiles).value_or(DrillRequest{}.files);
  request.scratch = context.home.state + "/drill";
  request.seed = random_seed();
  request.stop = stop_requested;
  ReadObserver observer(context);
  JobReader reader(context.machine(), read_options(context, args, kDrillUsage, true), observer);
  std::vector<ReadSession*> sessions = reader.sessions();
  for (ReadSession* session : sessions) session->unlock_content();
  int exit = 0;
  Json mismatches = Json::array(), disks = Json::array();
  DrillResult all;
  for (ReadSession* session : sessions) {
    DrillResult result = drill(*session, request, observer);
    observer.end();
    if (!result.mismatches.empty()) exit = 4;
    all.files += result.files;
    all.bytes += result.bytes;
    all.restore_points += result.restore_points;
    all.too_large += result.too_large;
    all.away += result.away;
    for (const DrillMismatch& wrong : result.mismatches) {
      Json item;
      put_name(item, "path", wrong.path);
      item["set"] = wrong.set.to_string();
      item["disk"] = disk_json(session->disk());
      item["reason"] = printable(wrong.reason);
      mismatches.push_back(item);
    }
    disks.push_back(disk_json(session->disk()));
    if (!context.json) print_result(context, *session, result);
  }
  JobAnswer answer{exit,
                   {{"job", reader.job_name()},
                    {"disks", disks},
                    {"files", all.files},
                    {"bytes", all.bytes},
                    {"restore_points", all.restore_points},
                    {"too_large", all.too_large},
                    {"away", all.away},
                    {"mismatches", mismatches}}};
  for (const std::string& disk : reader.left_out()) {
    context.say(printable(disk) + "; nothing was restored from it");
  }
  return answer;
}

}  // namespace

int drill_files(const Context& context, const Args& args) {
  return for_each_job(context, args, kDrillUsage,
                      [&](const Args& one) { return drill_job(context, one); });
}

}  // namespace kestrum::cli
