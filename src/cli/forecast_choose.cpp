#include "forecast_choose.h"

#include <fmt/format.h>

#include <algorithm>

#include "choose_list.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/job/job_file.h"
#include "kestrum/select/pattern.h"
#include "questions.h"

namespace kestrum::cli {
namespace {

constexpr std::size_t kLargestFiles = 50, kMostFolders = 100'000;
constexpr int kDeepest = 3;  // levels of folders below one of the job's

}  // namespace

void CopyList::add(const std::string& path, std::uint64_t size) {
  for (const std::string& folder : folders_) {
    if (!is_within(path, folder) || path == folder) continue;
    std::size_t at = folder == "/" ? 0 : folder.size();
    for (int level = 0; level <= kDeepest && at != std::string::npos; ++level) {
      std::string above = level == 0 ? folder : path.substr(0, at);
      if (sums_.size() >= kMostFolders && !sums_.contains(above)) break;
      ++sums_[above].files;
      sums_[above].bytes += size;
      at = path.find('/', at + 1);
    }
    break;
  }
  largest_.emplace(size, path);
  if (largest_.size() > kLargestFiles) largest_.erase(largest_.begin());
}

bool CopyList::holds(const std::string& path) const {
  return sums_.contains(path) || std::any_of(largest_.begin(), largest_.end(),
                                             [&](const auto& file) { return file.second == path; });
}

std::uint64_t CopyList::bytes_of(const std::string& path) const {
  auto folder = sums_.find(path);
  if (folder != sums_.end()) return folder->second.bytes;
  for (const auto& [size, file] : largest_) {
    if (file == path) return size;
  }
  return 0;
}

std::string CopyList::text(const Job& job) const {
  std::string out = fmt::format(
      "# What the next run of {} would copy: its folders, then the largest files.\n"
      "# Take the x away from what need not be backed up; a folder stands for all that is in it.\n"
      "# Then save the file and leave the editor. What has no x any more is left out of the job.\n"
      "# Only the x counts. Names stand as they are, but a control character as \\x0a, a backslash "
      "twice.\n\n",
      job.name);
  for (const auto& [folder, sum] : sums_) {
    bool whole = std::find(folders_.begin(), folders_.end(), folder) != folders_.end();
    if (whole) continue;  // that one is in the job by name
    out += fmt::format("[x] {:>9}  {:<14}  {}/\n", format_size(sum.bytes),
                       counted(sum.files, "file"), one_line_name(folder));
  }
  out += "\n";
  for (auto file = largest_.rbegin(); file != largest_.rend(); ++file) {
    out += fmt::format("[x] {:>9}  {:<14}  {}\n", format_size(file->first), "",
                       one_line_name(file->second));
  }
  return out;
}

int leave_out_by_hand(const Context& context, const Job& job, const CopyList& list) {
  std::vector<std::string> dropped;
  for (const ListedLine& line : edited_list(context, list.text(job))) {
    if (line.marked) continue;
    if (!list.holds(line.path)) throw names_nothing(line);
    if (!is_within_one(line.path, dropped)) dropped.push_back(line.path);
  }
  KeyValue before = job.values.at("source.leave_out");
  auto patterns = std::get<std::vector<std::string>>(before);
  std::uint64_t bytes = 0;
  for (const std::string& path : dropped) {
    bytes += list.bytes_of(path);
    patterns.push_back(pattern_of_path(path));
    context.tell_data("  ", printable(path));
  }
  if (dropped.empty()) {
    if (context.json) context.print_json({{"job", job.name}, {"left_out", Json::array()}});
    context.say(job.name + ": nothing was changed");
    return 0;
  }
  std::string question = fmt::format("Leave {} ({}) out of {} from now on?",
                                     counted(dropped.size(), "path"), format_size(bytes), job.name);
  if (!context.yes && !(can_ask(context) && ask_yes(question, false))) {
    throw Error(can_ask(context) ? ErrorKind::kStopped : ErrorKind::kUsage,
                job.name + ": nothing was changed", "--yes leaves it out without a question")
        .about_job(job.name);
  }
  context.jobs().edit(job.name, {{"source.leave_out", KeyValue(patterns)}});
  if (context.json) {
    Json left_out = Json::array();
    for (const std::string& name : dropped) left_out.push_back(printable(name));
    context.print_json({{"job", job.name}, {"left_out", left_out}});
    return 0;
  }
  context.say(fmt::format("{}: {} left out from the next run on", job.name,
                          counted(dropped.size(), "path")));
  context.say("  what restore points hold of it already stays in them");
  return 0;
}

}  // namespace kestrum::cli
