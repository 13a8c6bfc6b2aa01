// status --shelves: the shelves of many PCs.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "command.h"
#include "fleet_words.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/fleet.h"
#include "kestrum/report/pages.h"
#include "kestrum/report/words.h"
#include "state_words.h"
#include "table.h"

namespace kestrum::cli {
namespace {

constexpr std::size_t kToldByProbe = 5;

Json row_json(const FleetRow& row) {
  auto text = [](const std::string& t) { return t.empty() ? Json(nullptr) : Json(printable(t)); };
  Json json = {{"host", text(row.host)},
               {"job", text(row.job)},
               {"state", state_name(row.level)},
               {"why", row.reasons},
               {"heard", time_json(row.heard)},
               {"newest", time_json(row.newest)},
               {"oldest", time_json(row.oldest)},
               {"restore_points", row.restore_points},
               {"stored_bytes", row.stored_bytes},
               {"free_bytes", row.free_bytes ? Json(*row.free_bytes) : Json(nullptr)},
               {"signed", row.vouched ? Json(*row.vouched) : Json(nullptr)},
               {"path", nullptr}};
  if (!row.folder.empty()) {
    json.erase("path");
    put_name(json, "path", row.folder);
  }
  return json;
}

int probe_fleet(const std::vector<FleetRow>& rows, const std::string& top) {
  std::vector<std::string> told;
  std::size_t more = 0;
  for (const FleetRow& row : rows) {
    if (row.level == StatusLevel::kFine) continue;
    if (told.size() == kToldByProbe) {
      ++more;
      continue;
    }
    told.push_back(name_of_row(row, top) + ": " + fmt::format("{}", fmt::join(row.reasons, ", ")));
  }
  if (rows.empty()) return print_probe(std::nullopt, "no shelves there");
  std::string text = told.empty() ? counted(rows.size(), "shelf", "shelves") + " in order"
                                  : fmt::format("{}", fmt::join(told, "; "));
  if (more > 0) text += fmt::format("; and {} more", more);
  return print_probe(rows.front().level, text);  // the worst
}

void print_rows(const Context& context, const std::vector<FleetRow>& rows, const std::string& top) {
  Nanos now = context.clock.now();
  auto ago = [&](Nanos then) { return then == 0 ? "never" : format_ago(then, now); };
  Table table("<p<>>>");
  table.add({"", "PC and job", "newest", "points", "stored", "free"});
  for (const FleetRow& row : rows) {
    bool shelf = row.is_shelf();
    table.add({state_name(row.level), name_of_row(row, top), shelf ? ago(row.newest) : "-",
               shelf ? format_count(row.restore_points) : "-",
               shelf ? format_size(row.stored_bytes) : "-",
               shelf && row.free_bytes ? format_size(*row.free_bytes) : "-"});
  }
  std::vector<std::string> lines = split(table.text(), '\n');
  fmt::print("{}\n", lines[0]);
  for (std::size_t i = 0; i < rows.size(); ++i) {
    fmt::print("{}\n", lines[i + 1]);
    for (const std::string& reason : rows[i].reasons) {
      context.say("           " + coloured(reason, colour_of(rows[i].level)));
    }
  }
}

}  // namespace

int show_fleet(const Context& context, const Args& args) {
  args.expect(0, 0, "kestrum status --shelves DIR [--expect FILE] [--probe]");
  FleetRequest request = fleet_request(context, args);
  std::vector<FleetRow> rows = look_at_shelves(context.machine(), request);
  if (args.has("probe")) return probe_fleet(rows, request.folder);
  if (context.json) {
    Json list = Json::array();
    for (const FleetRow& row : rows) list.push_back(row_json(row));
    context.print_json({{"shelves", list}});
    return 0;
  }
  if (rows.empty()) {
    context.say("no shelves below " + printable(request.folder));
    return 0;
  }
  std::vector<StatusLevel> levels;
  levels.reserve(rows.size());
  for (const FleetRow& row : rows) levels.push_back(row.level);
  context.say(count_states(levels));
  print_rows(context, rows, request.folder);
  if (std::string unknown = unknown_signers_in_words(rows); !unknown.empty()) {
    context.say();
    context.say(unknown);
  }
  return 0;
}

}  // namespace kestrum::cli
