#include <fmt/format.h>

#include <algorithm>

#include "command.h"
#include "file_filter.h"
#include "kestrum/access/job_reader.h"
#include "kestrum/access/paths_ever.h"
#include "kestrum/access/resolve_path.h"
#include "kestrum/base/shell_word.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/pattern.h"
#include "read_observer.h"
#include "table.h"

namespace kestrum::cli {
namespace {

constexpr unsigned kMostDepth = 10'000;

std::string mode_text(const Entry& entry) {
  std::string text;
  for (int shift : {6, 3, 0}) {
    unsigned bits = entry.mode >> shift & 7;
    text += (bits & 4) != 0 ? 'r' : '-';
    text += (bits & 2) != 0 ? 'w' : '-';
    text += (bits & 1) != 0 ? 'x' : '-';
  }
  return text;
}

// Where the only path that `typed` means was seen last; it is given whole.
JobReader::Point last_seen_alone(JobReader& reader, std::string& typed) {
  std::vector<PathAt> seen = last_seen_of(reader, typed);
  if (seen.size() > 1) {
    throw Error(ErrorKind::kUsage,
                fmt::format("{} means {} paths", printable(typed), format_count(seen.size())),
                fmt::format("such as {} and {}", shell_word("/" + seen[0].path),
                            shell_word("/" + seen[1].path)))
        .about_path(typed);
  }
  typed = "/" + seen[0].path;
  return seen[0].point;
}

}  // namespace

int look(const Context& context, const Args& args) {
  bool by_shelf = args.has("shelf");
  const std::string usage = "kestrum look NAME [PATH] [--point TIME]";
  args.expect(by_shelf ? 0 : 1, by_shelf ? 1 : 2, usage);
  FileFilter filter(args, context.clock.now());
  // Files that are looked for lie anywhere below.
  unsigned depth = args.number("depth", 1, kMostDepth).value_or(filter.active() ? kMostDepth : 1);
  ReadObserver observer(context);
  JobReader reader(context.machine(), read_options(context, args, usage, false), observer);
  std::size_t path_at = by_shelf ? 0 : 1;
  std::optional<std::string> typed;
  if (args.positional().size() > path_at) typed = args.positional()[path_at];

  auto moment_text = args.get("point");
  JobReader::Point point = moment_text == "last-seen" && typed
                               ? last_seen_alone(reader, *typed)
                               : reader.choose(moment_text, context.clock.now());
  observer.end();
  ReadSession& session = *point.session;
  SetId set = point.set;
  std::vector<std::string> folders;
  if (typed) {
    folders.push_back(resolve_path(session, set, *typed));
  } else {
    for (const auto& root : session.set(set).roots) folders.push_back(root.path.substr(1));
    --depth;  // without PATH the job's folders themselves are what is listed
  }

  SetId newest = session.index().newest()->set;
  Json entries = Json::array();
  Table table(args.has("long") ? "<<<>>p" : "<>>p");
  std::uint64_t count = 0;
  for (const std::string& folder : folders) {
    auto itself = session.index().find(set, folder);
    bool is_folder = !itself || itself->line.entry.type == EntryType::kFolder;
    auto cursor = session.index().state_at(set, folder);
    IndexEntry entry;
    while (cursor.next(entry)) {
      const Entry& e = entry.line.entry;
      if (is_folder && typed && e.path == folder) continue;
      std::string below =
          e.path.substr(std::min(e.path.size(), folder.empty() ? 0 : folder.size() + 1));
      auto level = static_cast<unsigned>(std::count(below.begin(), below.end(), '/'));
      level += below.empty() ? 0 : 1;
      if (level > depth) continue;
      if (level == depth && e.type == EntryType::kFolder) cursor.skip_below(e.path);
      if (filter.active()) {
        bool takes = e.type == EntryType::kFile && filter.takes(e.path, e.size, e.mtime.moment());
        if (!takes || (filter.gone() && session.index().find(newest, e.path))) continue;
      }
      ++count;
      if (context.json) {
        Json item;
        put_name(item, "path", "/" + e.path);
        item["type"] = type_name(e.type);
        item["size"] = e.type == EntryType::kFile ? Json(e.size) : Json(nullptr);
        item["modified"] = format_rfc3339(e.mtime.moment());
        entries.push_back(std::move(item));
        continue;
      }
      std::string name = typed && !below.empty() ? below : "/" + e.path;
      if (e.type == EntryType::kFolder) name += "/";
      name = printable(name);
      if (!e.target.empty()) {
        name += e.type == EntryType::kLink ? " -> " + printable(e.target)
                                           : " = /" + printable(e.target);
      }
      std::string size = e.type == EntryType::kFile ? format_size(e.size) : "";
      if (args.has("long")) {
        std::string owner = e.user.empty() ? std::to_string(e.uid) : printable(e.user);
        table.add(
            {type_name(e.type), mode_text(e), owner, size, format_local(e.mtime.moment()), name});
      } else {
        table.add({type_name(e.type), size, format_local(e.mtime.moment()), name});
      }
    }
  }
  const IndexedSet& chosen = session.set(set);
  if (context.json) {
    context.print_json({{"job", session.job_name()},
                        {"set", set.to_string()},
                        {"disk", disk_json(session.disk())},
                        {"taken", format_rfc3339(chosen.started)},
                        {"entries", entries}});
    return 0;
  }
  std::string where = typed ? "/" + folders[0] + " " : "";
  context.say(fmt::format("{}: {}on {} (set {}): {}", session.job_name(), printable(where),
                          format_local(chosen.started), session.name_of(set),
                          counted(count, "entry", "entries")));
  fmt::print("{}", table.text());
  return 0;
}

}  // namespace kestrum::cli
