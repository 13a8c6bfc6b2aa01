// The page of the shelves of many PCs.
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/report/csv.h"
#include "kestrum/report/page_parts.h"
#include "kestrum/report/words.h"

namespace kestrum {
namespace {

struct AgeGroup {
  const char* name;
  Nanos below;  // younger than this
};
constexpr std::array<AgeGroup, 6> kAgeGroups = {{{"1 day", kDay},
                                                 {"2 days", 2 * kDay},
                                                 {"4 days", 4 * kDay},
                                                 {"1 week", 7 * kDay},
                                                 {"2 weeks", 14 * kDay},
                                                 {"4 weeks", 28 * kDay}}};

// The last but one is for what is older, the last for what has none.
std::size_t age_group(const FleetRow& row, Nanos now) {
  if (row.newest == 0) return kAgeGroups.size() + 1;
  for (std::size_t i = 0; i < kAgeGroups.size(); ++i) {
    if (now - row.newest < kAgeGroups[i].below) return i;
  }
  return kAgeGroups.size();
}

std::string time_or_none(Nanos when) {
  return when == 0 ? "" : format_rfc3339(when);
}

}  // namespace

Figure ages_figure(const std::vector<FleetRow>& rows, Nanos now, Draftsman& draftsman) {
  Figure figure;
  figure.name = "shelves-ages";
  figure.title = "Shelves by the age of their newest restore point";
  std::array<std::array<std::size_t, 3>, kAgeGroups.size() + 2> count{};
  for (const FleetRow& row : rows) {
    ++count[age_group(row, now)][static_cast<std::size_t>(row.level)];
  }
  figure.csv = csv_line({"age", "fine", "heed", "trouble"});
  std::string ages, names;
  std::size_t most = 1, young = 0;
  for (std::size_t i = 0; i < count.size(); ++i) {
    std::string name = i < kAgeGroups.size()    ? std::string(kAgeGroups[i].name)
                       : i == kAgeGroups.size() ? "older"
                                                : "none";
    const auto& [fine, heed, trouble] = count[i];
    std::size_t all = fine + heed + trouble;
    figure.csv +=
        csv_line({name, std::to_string(fine), std::to_string(heed), std::to_string(trouble)});
    ages += fmt::format("{} {} {} {} {}\n", i, fine, heed, trouble,
                        all == 0 ? "\"\"" : std::to_string(all));
    names += fmt::format("{}\"{}\" {}", names.empty() ? "" : ", ", name, i);
    most = std::max(most, all);
    if (i == 0) young = all;
  }
  figure.summary = fmt::format("{} of {} have a restore point of the last day", young,
                               counted(rows.size(), "shelf", "shelves"));
  Plot plot{"ages.gp", 900, 320, {}};
  plot.values = {{"COUNT", std::to_string(count.size())},
                 {"MOST", fmt::format("{}", 1.25 * static_cast<double>(most))},
                 {"WHAT", "shelves"},
                 {"NAMES", names},
                 {"AGES", ages}};
  draftsman.draw(figure, plot);
  return figure;
}

Report fleet_report(const std::vector<FleetRow>& rows, const std::string& folder, Nanos now) {
  Report report;
  PageDictionary page("page");
  Draftsman draftsman;
  std::vector<StatusLevel> levels;
  std::string csv = csv_line({"host", "job", "state", "newest", "oldest", "restore_points",
                              "stored_bytes", "free_bytes", "signed", "why"});
  for (const FleetRow& row : rows) {
    levels.push_back(row.level);
    report.worst = std::max(report.worst, row.level);
    bool shelf = row.is_shelf();
    PageDictionary* line = page.AddSectionDictionary("ROW");
    line->SetValue("NAME", name_of_row(row, folder));
    line->SetValue("STATE", state_name(row.level));
    line->SetValue("NEWEST", !shelf            ? "–"
                             : row.newest == 0 ? "never"
                                               : format_ago(row.newest, now));
    line->SetValue("POINTS", shelf ? format_count(row.restore_points) : "–");
    line->SetValue("STORED", shelf ? format_size(row.stored_bytes) : "–");
    line->SetValue("FREE", shelf && row.free_bytes ? format_size(*row.free_bytes) : "–");
    std::string why;
    for (const std::string& reason : row.reasons) {
      line->AddSectionDictionary("REASON")->SetValue("TEXT", printable(reason));
      why += (why.empty() ? "" : "; ") + printable(reason);
    }
    if (row.level != StatusLevel::kFine) {
      report.lines.push_back(
          fmt::format("{}: {}: {}", name_of_row(row, folder), state_name(row.level), why));
    }
    csv += csv_line({printable(row.host), printable(row.job), state_name(row.level),
                     time_or_none(row.newest), time_or_none(row.oldest),
                     std::to_string(row.restore_points), std::to_string(row.stored_bytes),
                     row.free_bytes ? std::to_string(*row.free_bytes) : "",
                     row.vouched ? (*row.vouched ? "yes" : "no") : "unknown", why});
  }
  report.answer = rows.empty() ? "No shelves there." : capitalised(count_states(levels)) + ".";
  if (!rows.empty()) add_figure(page, ages_figure(rows, now, draftsman), report, draftsman);
  report.problems = draftsman.problems();
  report.files.push_back({"shelves.csv", csv});
  page.SetValue("FOLDER", printable(folder));
  page.SetValue("SIGNED", unknown_signers_in_words(rows));
  fill_head(page, "Backups of many PCs", now, report);
  page.SetValue("SKIP_TO", "pcs");
  page.SetValue("SKIP_WORDS", "To the table");
  report.files.insert(report.files.begin(), {"index.html", page_html("fleet_page.html", page)});
  return report;
}

}  // namespace kestrum
