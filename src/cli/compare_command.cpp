#include <fmt/format.h>

#include "command.h"
#include "kestrum/access/job_reader.h"
#include "kestrum/access/resolve_path.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/compare.h"
#include "read_observer.h"
#include "table.h"

namespace kestrum::cli {
namespace {

constexpr std::uint64_t kLinesShown = 20;  // of each kind

Json item_json(const DifferingPath& item) {
  Json json;
  put_name(json, "path", item.path);
  if (item.what == Difference::kMoved) put_name(json, "from", item.moved_from);
  if (item.what == Difference::kChanged) {
    json["size_before"] = item.before;
    json["size"] = item.after;
  } else {
    json["size"] = item.what == Difference::kGone ? item.before : item.after;
  }
  return json;
}

std::string size_in_words(const DifferingPath& item) {
  if (item.what == Difference::kGone) return format_size(item.before);
  if (item.what != Difference::kChanged || item.before == item.after) {
    return format_size(item.after);
  }
  return format_size(item.before) + " -> " + format_size(item.after);
}

}  // namespace

int compare_moments(const Context& context, const Args& args) {
  bool by_shelf = args.has("shelf");
  const std::string usage = "kestrum compare NAME [PATH] [--point TIME] [--with TIME|now]";
  args.expect(by_shelf ? 0 : 1, by_shelf ? 1 : 2, usage);
  std::size_t path_at = by_shelf ? 0 : 1;
  std::string with = args.get("with").value_or("now");
  if (with == "now" && by_shelf) {
    throw Error(ErrorKind::kUsage, "--shelf has no folders of this PC to compare with: --with TIME",
                usage);
  }
  ReadObserver observer(context);
  JobReader reader(context.machine(), read_options(context, args, usage, false), observer);
  Nanos now = context.clock.now();
  JobReader::Point point = reader.choose(with == "now" ? args.get("point") : with, now);
  ReadSession& session = *point.session;
  SetId from = point.set;
  std::optional<SetId> to;
  if (with != "now") {
    // Both of one disk: what another one holds between them shows when it is asked for with --on.
    to = point.set;
    from = session.choose(args.get("point"), now);
  }
  std::string below;
  if (args.positional().size() > path_at) {
    bool anchored = false;
    below = stored_form(args.positional()[path_at], anchored);
    if (!anchored) below = resolve_path(session, to.value_or(from), args.positional()[path_at]);
  }
  std::string direction = fmt::format(
      "from {} (set {}) to {}", format_local(session.set(from).started), session.name_of(from),
      to ? fmt::format("{} (set {})", format_local(session.set(*to).started), session.name_of(*to))
         : std::string("now"));
  Json lists = {{"new", Json::array()},
                {"changed", Json::array()},
                {"moved", Json::array()},
                {"gone", Json::array()}};
  std::vector<std::pair<std::string, std::string>> lines;  // what stands before a name, and that
  std::uint64_t shown[4] = {};
  auto visit = [&](const DifferingPath& item) {
    const char* name = difference_name(item.what);
    if (context.json) return lists[name].push_back(item_json(item));
    if (++shown[static_cast<int>(item.what)] > kLinesShown && !context.verbose) return;
    lines.emplace_back(fmt::format("  {:<8} {:>20}  ", name, size_in_words(item)),
                       printable(item.path));
    if (!item.moved_from.empty()) {
      lines.emplace_back(fmt::format("{:>31}  from ", ""), printable(item.moved_from));
    }
  };
  CompareScope scope{from, below, stop_requested};
  CompareTotals totals;
  if (to) {
    totals = compare_sets(session, scope, *to, visit);
  } else {
    DiskNow disk{context.machine(), context.jobs().load(session.job_name()), now};
    totals = compare_with_now(disk, session, scope, observer, visit);
  }
  observer.end();
  int exit = totals.any() ? 1 : 0;
  if (context.json) {
    Json json = {{"job", session.job_name()},
                 {"disk", disk_json(session.disk())},
                 {"from", from.to_string()},
                 {"to", to ? to->to_string() : "now"},
                 {"same", totals.same}};
    json.update(lists);
    context.print_json(json);
    return exit;
  }
  std::string sums;
  for (int i = 0; i < 4; ++i) {
    if (totals.files[i] == 0) continue;
    sums += fmt::format("{}{} {} ({})", sums.empty() ? "" : ", ", format_count(totals.files[i]),
                        difference_name(static_cast<Difference>(i)), format_size(totals.bytes[i]));
  }
  context.say(fmt::format("{} {}: {}", session.job_name(), direction,
                          sums.empty() ? "no difference" : sums));
  context.say(fmt::format("  {} the same", counted(totals.same, "file")));
  for (const auto& [before, path] : lines) context.data(before, path);
  for (int i = 0; i < 4; ++i) {
    if (shown[i] > kLinesShown && !context.verbose) {
      context.say(fmt::format("  and {} more {}; --verbose names them all",
                              format_count(shown[i] - kLinesShown),
                              difference_name(static_cast<Difference>(i))));
    }
  }
  return exit;
}

}  // namespace kestrum::cli
