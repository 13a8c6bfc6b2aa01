#include "job_words.h"

#include <fmt/format.h>

#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/job_outlook.h"
#include "kestrum/machine/schedule_book.h"
#include "table.h"

namespace kestrum::cli {
namespace {

const std::string& text_of(const Job& job, const std::string& key) {
  return std::get<std::string>(job.values.at(key));
}

std::string names_in_words(const std::vector<std::string>& words) {
  std::string out;
  for (const auto& word : words) out += (out.empty() ? "" : ", ") + printable(word);
  return out;
}

// "14 days", "9 hours".
std::string roughly(Nanos time) {
  Nanos unit = time >= kDay ? kDay : kHour;
  auto count = static_cast<std::uint64_t>(std::max<Nanos>(1, (time + unit / 2) / unit));
  return counted(count, unit == kDay ? "day" : "hour");
}

}  // namespace

std::string chain_in_words(const Context& context, const Job& job) {
  Outlook plan = bare_outlook(context.machine(), job, context.clock.now());
  std::string room = !prunes_by_itself(job.when_full)
                         ? std::string("nothing goes by itself")
                         : "the disk must hold " + counted(plan.fulls_at_once, "full set") +
                               (plan.fulls_at_once == 1 ? "" : " at once");
  if (job.follows_full == SetKind::kFull) return "every set is full, " + room;
  std::string kind = kind_name(job.follows_full);
  if (job.new_full.when == NewFullRule::When::kNever) {
    return fmt::format("1 full, then {}s without end: none of them ever goes", kind);
  }
  unsigned dependents = plan.dependents;
  std::string due = text_of(job, "chain.new_full");
  if (job.new_full.when == NewFullRule::When::kAfter) {
    dependents = job.new_full.count;
    due = plan.full_interval ? "about every " + roughly(*plan.full_interval) : "after them";
    if (job.when.empty()) due += " if it runs once a day";
  }
  return fmt::format("1 full + {}, a new full {}, {}", counted(dependents, kind), due, room);
}

std::string job_in_words(const Context& context, const Job& job) {
  Table table("<w");
  if (!job.title.empty()) table.add({"title", printable(job.title)});
  for (std::size_t i = 0; i < job.folders.size(); ++i) {
    table.add({i == 0 ? "copies" : "", printable(job.folders[i])});
  }
  if (!job.rules.only.empty()) table.add({"only", names_in_words(job.rules.only)});
  std::string left_out = names_in_words(job.rules.leave_out);
  if (job.rules.leave_out_litter) {
    left_out += std::string(left_out.empty() ? "" : ", and ") +
                "litter: caches, trash, temporary files, editor leftovers";
  }
  table.add({"leaves out", left_out.empty() ? "nothing" : left_out});
  for (std::size_t i = 0; i < job.places.size(); ++i) {
    table.add({i == 0 ? "to" : "", printable(job.places[i])});
  }
  table.add({"chain", chain_in_words(context, job)});
  std::string keeps =
      fmt::format("every restore point of the last {}, and at least {}", text_of(job, "keep.for"),
                  counted(job.keep.chains, "complete chain"));
  table.add({"keeps", keeps});
  for (const ThinRule& rule : job.keep.thin) table.add({"", rule.text()});
  if (job.when_full == WhenFull::kAsk) {
    table.add({"when full", "goes on on another of these disks"});
  }
  if (!prunes_by_itself(job.when_full)) {
    table.add({"", "nothing is removed by itself (kestrum prune " + job.name + ")"});
  }
  for (std::size_t i = 0; i < job.when.size(); ++i) {
    table.add({i == 0 ? "when" : "", job.when[i].text()});
  }
  if (job.when.empty()) table.add({"when", "by hand"});
  table.add({"protection", job.encrypted ? "encrypted; the passphrase is needed to restore"
                                         : "none: whoever has the disk can read it"});
  if (!job.before_run.text.empty()) table.add({"before a run", printable(job.before_run.text)});
  if (!job.after_run.text.empty()) table.add({"after a run", printable(job.after_run.text)});
  if (job.power_off) table.add({"then", "powers this PC off"});
  return table.text();
}

std::string next_times_in_words(const Context& context, const Job& job) {
  Timetable times = timetable_of(job, context.machine(), Zone::local());
  std::string text;
  Nanos at = context.clock.now();
  for (int i = 0; i < 3; ++i) {
    auto next = times.next_after(at);
    if (!next) break;
    at = *next;
    text += (i == 0 ? "" : ", ") + format_local_day(at);
  }
  return text;
}

}  // namespace kestrum::cli
