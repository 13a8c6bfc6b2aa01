#include "kestrum/report/words.h"

#include <fmt/format.h>

#include <algorithm>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"

namespace kestrum {

std::string state_in_words(const JobStatus& status, Nanos now) {
  if (!status.problems.empty()) return printable(status.problems.front());
  if (!status.heeds.empty()) return printable(status.heeds.front());
  std::string text = "no restore point yet";
  if (status.shelf && status.shelf->newest != 0) {
    text =
        fmt::format("the newest restore point is of {}, {}", format_local_day(status.shelf->newest),
                    format_ago(status.shelf->newest, now));
  }
  if (status.running) return text + "; a run is at work";
  if (status.next_run != 0)
    return text + "; the next run is at " + format_local_day(status.next_run);
  if (status.when_files_change) return text + "; the next run is when files change";
  if (status.by_hand) return text + "; it runs by hand";
  return text;
}

std::string room_in_words(const DiskFacts& disk) {
  if (!disk.attached) return "not there now, so that nothing is known of the days to come";
  if (!disk.ahead || disk.ahead->runs.empty()) return "too few runs to look ahead";
  const RoomAhead& ahead = *disk.ahead;
  std::string basis = ", if things go on as in " + ahead.from;
  if (ahead.full_at) {
    std::string middle = format_day(*ahead.full_at), text = "full about " + middle;
    if (ahead.earliest && format_day(*ahead.earliest) != middle) {
      text += ", at the earliest " + format_day(*ahead.earliest);
    }
    if (!ahead.latest) text += ", or later";
    if (ahead.latest && format_day(*ahead.latest) != middle) {
      text += ", at the latest " + format_day(*ahead.latest);
    }
    return text + basis;
  }
  std::string until = format_day(ahead.runs.back());
  if (ahead.earliest) {
    return fmt::format("room until {} at least, looked ahead to {}{}", format_day(*ahead.earliest),
                       until, basis);
  }
  return "room for all runs until " + until + ", as far as was looked ahead" + basis;
}

std::string verify_in_words(const JobStatus& status, Nanos now) {
  const VerifyRecord& verified = status.verified;
  if (verified.when == 0) return "never: kestrum verify " + status.job;
  std::string text =
      fmt::format("{}, {}", format_ago(verified.when, now), counted(verified.parts, "part"));
  if (verified.damaged > 0) return text + fmt::format(", {} DAMAGED", verified.damaged);
  return text + " as the seals say";
}

std::string drill_in_words(const JobStatus& status, Nanos now) {
  const DrillRecord& drill = status.drill;
  if (drill.when == 0) return "never: kestrum drill " + status.job;
  std::string text =
      fmt::format("{}, {}", format_ago(drill.when, now), counted(drill.files, "file"));
  text +=
      drill.mismatches > 0 ? fmt::format(", {} WRONG", drill.mismatches) : ", all came back right";
  return status.drilled_at.empty() ? text : text + ", as " + printable(status.drilled_at) + " says";
}

std::string name_of_row(const FleetRow& row, const std::string& top) {
  if (!row.host.empty()) return printable(row.host + (row.job.empty() ? "" : " " + row.job));
  return printable(is_within(row.folder, top) ? relative_to(row.folder, top) : row.folder);
}

std::string unknown_signers_in_words(const std::vector<FleetRow>& rows) {
  auto unknown =
      static_cast<std::uint64_t>(std::count_if(rows.begin(), rows.end(), [](const FleetRow& row) {
        return row.is_shelf() && !row.vouched;
      }));
  if (unknown == 0) return "";
  return counted(unknown, "shelf is", "shelves are") +
         " told of as found: this PC does not know who signs there.";
}

std::string capitalised(std::string text) {
  auto small = [&](std::size_t at) { return text[at] >= 'a' && text[at] <= 'z'; };
  // Not the name of a set: "c1-0".
  if (text.size() > 1 && small(0) && (small(1) || text[1] == ' '))
    text[0] = static_cast<char>(text[0] - 32);
  return text;
}

std::string free_in_words(const DiskFacts& disk) {
  if (!disk.free) return "how much is free is not told";
  if (disk.capacity == 0) return format_size(*disk.free) + " free when last seen";
  return format_size(*disk.free) + " of " + format_size(disk.capacity) + " free";
}

}  // namespace kestrum
