// The page of this PC's jobs.
#include <fmt/format.h>

#include <algorithm>

#include "kestrum/base/host_name.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/report/csv.h"
#include "kestrum/report/page_parts.h"
#include "kestrum/report/words.h"

namespace kestrum {
namespace {

constexpr std::size_t kRunsListed = 30;
constexpr std::size_t kReasonsBesideTheFirst = 20;

struct Column {
  const char* name;
  const char* look;  // "number", "when", "name" or ""
};

// A table of a job's section, with its data as a file if it has a name.
class TableOf {
 public:
  TableOf(PageDictionary& section, int id, const std::string& title, std::vector<Column> columns)
      : table_(*section.AddSectionDictionary("TABLE")), columns_(std::move(columns)) {
    table_.SetIntValue("TABLE_ID", id);
    table_.SetValue("TITLE", title);
    for (const Column& column : columns_) {
      PageDictionary* head = table_.AddSectionDictionary("HEAD");
      head->SetValue("TEXT", column.name);
      head->SetValue("CLASS", column.look);
    }
  }
  void note(const std::string& text) {
    table_.AddSectionDictionary("NOTE")->SetValue("TEXT", text);
  }
  void add(const std::vector<std::string>& cells) {
    PageDictionary* line = table_.AddSectionDictionary("LINE");
    for (std::size_t i = 0; i < cells.size(); ++i) {
      PageDictionary* cell = line->AddSectionDictionary("CELL");
      cell->SetValue("TEXT", cells[i]);
      cell->SetValue("CLASS", columns_[i].look);
    }
  }
  void add_file(const std::string& name, std::string csv, Report& report) {
    PageDictionary* file = table_.AddSectionDictionary("CSV_FILE");
    file->SetValue("PATH", name);
    file->SetValue("KIND", "CSV");
    report.files.push_back({name, std::move(csv)});
  }

 private:
  PageDictionary& table_;
  std::vector<Column> columns_;
};

std::string grown_words(std::int64_t bytes) {
  if (bytes == 0) return "";
  auto size = format_size(static_cast<std::uint64_t>(bytes < 0 ? -bytes : bytes));
  return (bytes < 0 ? "−" : "+") + size;
}

void add_fact(PageDictionary& section, const std::string& name, const std::string& text) {
  PageDictionary* fact = section.AddSectionDictionary("FACT");
  fact->SetValue("NAME", printable(name));
  fact->SetValue("TEXT", printable(text));
}

void add_facts(PageDictionary& section, const JobFacts& facts) {
  const JobStatus& status = facts.status;
  if (status.last_run != 0) {
    add_fact(section, "last run",
             format_local_day(status.last_run) + ", " + status.outcome +
                 (status.reason.empty() ? "" : ": " + status.reason));
  }
  if (status.shelf && status.shelf->restore_points > 0) {
    add_fact(section, "holds",
             fmt::format("{} back to {}", counted(status.shelf->restore_points, "restore point"),
                         format_day(status.shelf->oldest)));
  }
  for (const DiskFacts& disk : facts.disks) {
    std::string text = disk.attached ? "there" : disk.why_not;
    text += fmt::format("; {} stored, {}; {}", format_size(disk.stored), free_in_words(disk),
                        room_in_words(disk));
    add_fact(section, disk.disk, text);
  }
  add_fact(section, "last verify", verify_in_words(status, facts.now));
  add_fact(section, "last drill", drill_in_words(status, facts.now));
}

void add_runs(PageDictionary& section, int id, const JobFacts& facts) {
  TableOf table(section, id, "Runs",
                {{"started", "when"},
                 {"outcome", ""},
                 {"set", "when"},
                 {"copied", "number"},
                 {"stored", "number"},
                 {"took", "number"},
                 {"", "name"}});
  std::size_t first = facts.runs.size() > kRunsListed ? facts.runs.size() - kRunsListed : 0;
  if (first > 0) table.note(fmt::format("the newest {} of {}", kRunsListed, facts.runs.size()));
  for (std::size_t i = facts.runs.size(); i-- > first;) {
    const PastRun& run = facts.runs[i];
    bool made = run.set.has_value();
    std::string remark = run.reason == run.outcome ? "" : run.reason;
    if (run.warning_count > 0 && remark.empty()) remark = counted(run.warning_count, "warning");
    table.add({format_local_day(run.started), run.outcome,
               made ? run.set->to_string() + (run.kind == SetKind::kFull ? " full" : "") : "–",
               made ? format_size(run.copied) : "–", made ? format_size(run.stored) : "–",
               made ? format_duration(static_cast<Nanos>(run.seconds * kSecond)) : "–",
               printable(remark)});
  }
}

void add_largest(PageDictionary& section, int id, const JobFacts& facts, Report& report) {
  std::string csv = csv_line({"what", "path", "bytes", "grown"});
  auto add = [&](const char* title, const char* what, const std::vector<NamedSize>& list,
                 const std::string& note, bool last) {
    if (list.empty()) return;
    TableOf table(section, id++, title,
                  {{"size", "number"}, {"grown", "number"}, {"path", "name"}});
    if (!note.empty()) table.note(note);
    for (const NamedSize& item : list) {
      table.add({format_size(item.bytes), grown_words(item.grown), printable(item.path)});
      csv += csv_line(
          {what, printable(item.path), std::to_string(item.bytes), std::to_string(item.grown)});
    }
    if (last) table.add_file(facts.status.job + "-largest.csv", csv, report);
  };
  if (!facts.largest_at) return;
  std::string since =
      facts.largest_since ? ", compared with " + format_local_day(*facts.largest_since) : "";
  std::string at = "at the restore point of " + format_local_day(*facts.largest_at) + since;
  add("What grew most", "grown", facts.largest.grown, at, false);
  add("Largest files", "file", facts.largest.files, at, facts.largest.folders.empty());
  add("Largest folders", "folder", facts.largest.folders,
      at + "; those of the job, and up to two levels below", true);
}

void add_warnings(PageDictionary& section, const JobFacts& facts) {
  PageDictionary* list = nullptr;
  std::size_t first = facts.runs.size() > kRunsListed ? facts.runs.size() - kRunsListed : 0;
  for (std::size_t i = facts.runs.size(); i-- > first;) {
    const PastRun& run = facts.runs[i];
    if (run.warning_count == 0) continue;
    if (list == nullptr) list = section.AddSectionDictionary("WARNED_RUNS");
    PageDictionary* item = list->AddSectionDictionary("WARNED_RUN");
    item->SetValue("RUN", format_local_day(run.started));
    item->SetValue("COUNT", counted(run.warning_count, "warning"));
    for (const Warning& warning : run.warnings) {
      item->AddSectionDictionary("WARNING")->SetValue(
          "TEXT",
          printable(warning.path.empty() ? warning.reason : warning.path + ": " + warning.reason));
    }
    if (run.warning_count > run.warnings.size()) {
      item->AddSectionDictionary("WARNING")->SetValue(
          "TEXT", fmt::format("and {} more: kestrum history {} --show {}",
                              run.warning_count - run.warnings.size(), facts.status.job,
                              run_number(run.run)));
    }
  }
}

void add_row(PageDictionary& page, int id, const JobFacts& facts) {
  const JobStatus& status = facts.status;
  PageDictionary* row = page.AddSectionDictionary("ROW");
  bool known = status.shelf.has_value();
  row->SetIntValue("ID", id);
  row->SetValue("JOB", status.job);
  row->SetValue("STATE", state_name(status.level));
  row->SetValue("NEWEST", known && status.shelf->newest != 0
                              ? format_ago(status.shelf->newest, facts.now)
                              : "none");
  row->SetValue("NEXT", status.next_run != 0       ? format_local_day(status.next_run)
                        : status.by_hand           ? "by hand"
                        : status.when_files_change ? "when files change"
                                                   : "at the next chance");
  row->SetValue("POINTS", known ? format_count(status.shelf->restore_points) : "–");
  row->SetValue("STORED", known ? format_size(status.shelf->stored_bytes) : "–");
  row->SetValue("FREE",
                known && status.shelf->free_bytes ? format_size(*status.shelf->free_bytes) : "–");
}

void add_job(PageDictionary& page, int id, const JobFacts& facts, Report& report,
             Draftsman& draftsman) {
  const JobStatus& status = facts.status;
  add_row(page, id, facts);
  report.lines.push_back(fmt::format("{}: {}: {}", status.job, state_name(status.level),
                                     state_in_words(status, facts.now)));
  PageDictionary& section = *page.AddSectionDictionary("JOB_SECTION");
  section.SetIntValue("ID", id);
  section.SetValue("JOB", status.job);
  section.SetValue("STATE", state_name(status.level));
  if (!facts.title.empty()) {
    section.AddSectionDictionary("JOB_TITLE")->SetValue("TEXT", printable(facts.title));
  }
  section.SetValue("SENTENCE", capitalised(state_in_words(status, facts.now)) + ".");
  std::vector<std::string> reasons = status.reasons(true);
  reasons.insert(reasons.end(), status.remarks.begin(), status.remarks.end());
  std::size_t told = status.level == StatusLevel::kFine ? 0 : 1;
  if (reasons.size() > told) {
    PageDictionary* list = section.AddSectionDictionary("REASONS");
    for (std::size_t i = told; i < std::min(reasons.size(), told + kReasonsBesideTheFirst); ++i) {
      list->AddSectionDictionary("REASON")->SetValue("TEXT", printable(reasons[i]));
    }
  }
  add_facts(section, facts);
  add_figure(section, calendar_figure(facts), report, draftsman);
  int number = 0;
  for (const DiskFacts& disk : facts.disks) {
    std::string which = ++number == 1 ? "" : fmt::format("-{}", number);
    add_figure(section, stored_figure(facts, disk, status.job + "-stored" + which, draftsman),
               report, draftsman);
    add_figure(section, room_figure(facts, disk, status.job + "-room" + which, draftsman), report,
               draftsman);
  }
  add_figure(section, runs_figure(facts, draftsman), report, draftsman);
  add_runs(section, 0, facts);
  add_warnings(section, facts);
  add_largest(section, 1, facts, report);
}

}  // namespace

void remove_names(JobFacts& facts) {
  if (!facts.is_protected) return;
  facts.status.problems = facts.status.discreet_problems;
  facts.status.heeds = facts.status.discreet_heeds;
  facts.status.reason.clear();
  facts.largest = {};
  facts.largest_at.reset();
  for (PastRun& run : facts.runs) {
    run.warnings.clear();
    run.reason.clear();
  }
}

Report job_report(std::vector<JobFacts> jobs, Nanos now) {
  std::stable_sort(jobs.begin(), jobs.end(), [](const JobFacts& a, const JobFacts& b) {
    return a.status.level > b.status.level;
  });
  Report report;
  std::vector<StatusLevel> levels;
  levels.reserve(jobs.size());
  for (const JobFacts& facts : jobs) levels.push_back(facts.status.level);
  if (!levels.empty()) report.worst = levels.front();
  report.answer = levels.empty() ? "No jobs on this PC." : capitalised(count_states(levels)) + ".";
  PageDictionary page("page");
  Draftsman draftsman;
  int id = 0;
  for (const JobFacts& facts : jobs) add_job(page, id++, facts, report, draftsman);
  report.problems = draftsman.problems();
  fill_head(page, "Backups of " + host_name(), now, report);
  page.SetValue("SKIP_TO", "jobs");
  page.SetValue("SKIP_WORDS", "To the jobs");
  report.files.insert(report.files.begin(), {"index.html", page_html("job_page.html", page)});
  return report;
}

}  // namespace kestrum
