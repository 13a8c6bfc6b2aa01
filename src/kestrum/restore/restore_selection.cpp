#include "kestrum/restore/restore_selection.h"

#include <fmt/format.h>

#include "kestrum/access/resolve_path.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/restore/target_folder.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/pattern.h"

namespace kestrum {
namespace {

std::string shared_part(std::string a, const std::string& b) {
  while (!a.empty() && !is_within(b, a)) a = folder_above(a);
  return a;
}

}  // namespace

RestoreSelection::RestoreSelection(ReadSession& session, SetId set)
    : session_(session), index_(session.index()), set_(set) {
  index_.database().exec(
      // Never dropped: that would need every statement of the connection to be at its end.
      "CREATE TEMP TABLE IF NOT EXISTS chosen(key BLOB PRIMARY KEY, version INTEGER, set_sequence "
      "INTEGER,"
      " tar_offset INTEGER, marked INTEGER DEFAULT 0) WITHOUT ROWID;"
      "DELETE FROM temp.chosen");
}

std::uint64_t RestoreSelection::add(const std::string& typed) {
  bool anchored = false;
  std::string path = stored_form(typed, anchored);
  std::uint64_t before = count();
  IndexEntry first;
  bool literal = path.empty() || index_.find(set_, path) || index_.state_at(set_, path).next(first);
  if (literal) {
    SQLite::Statement s(
        index_.database(),
        std::string("INSERT OR IGNORE INTO temp.chosen(key, version) SELECT p.key, v.id FROM path p"
                    " JOIN version v ON v.path = p.id WHERE v.first <= ?1"
                    " AND (v.until IS NULL OR v.until > ?1)") +
            (path.empty() ? "" : " AND p.key >= ?2 AND p.key < ?3"));
    s.bind(1, set_.sequence());
    if (!path.empty()) {
      bind_blob(s, 2, path_key(path));
      bind_blob(s, 3, path_key(path) + '\x01');
    }
    s.exec();
  } else {
    PatternSet pattern({anchored ? "/" + path : path});
    auto cursor = index_.state_at(set_);
    IndexEntry entry;
    while (cursor.next(entry)) {
      if (pattern.match(entry.line.entry.path)) add_version(entry.line.entry.path, entry.version);
    }
  }
  std::uint64_t matched = count() - before;
  if (matched == 0 && !has(path)) throw nothing_matched(typed, path, anchored);
  return matched;
}

void RestoreSelection::add_version(const std::string& path, std::int64_t version) {
  SQLite::Statement s(index_.database(),
                      "INSERT OR IGNORE INTO temp.chosen(key, version) VALUES(?, ?)");
  bind_blob(s, 1, path_key(path));
  s.bind(2, version);
  s.exec();
}

bool RestoreSelection::has(const std::string& path) {
  SQLite::Statement s(index_.database(), "SELECT 1 FROM temp.chosen WHERE key = ?");
  bind_blob(s, 1, path_key(path));
  return s.executeStep();
}

IndexEntry RestoreSelection::linked_file(const Entry& hardlink) {
  auto target = index_.find(set_, hardlink.target);
  if (!target || target->line.entry.type != EntryType::kFile) {
    throw Error(ErrorKind::kDamage, "it is a hard link to a file that is not in this set");
  }
  return *target;
}

std::uint64_t RestoreSelection::number(const char* query) {
  return static_cast<std::uint64_t>(index_.database().execAndGet(query).getInt64());
}

std::uint64_t RestoreSelection::count() {
  return number("SELECT count(*) FROM temp.chosen");
}

std::uint64_t RestoreSelection::files() {
  return number(
      "SELECT count(*) FROM temp.chosen c JOIN version v ON v.id = c.version WHERE v.type != 1");
}

std::uint64_t RestoreSelection::bytes() {
  return number(
      "SELECT coalesce(sum(v.size), 0) FROM temp.chosen c JOIN version v ON v.id = c.version"
      " WHERE v.type = 0");
}

std::string RestoreSelection::shared_folder() {
  std::optional<std::string> shared, covered;  // covered: by a chosen folder above
  SQLite::Statement s(
      index_.database(),
      "SELECT c.key, v.type FROM temp.chosen c JOIN version v ON v.id = c.version ORDER BY c.key");
  while (s.executeStep()) {
    std::string path = path_from_key(column_blob(s, 0));
    bool folder = s.getColumn(1).getInt() == static_cast<int>(EntryType::kFolder);
    if (covered && is_within(path, *covered)) continue;
    if (folder) covered = path;
    std::string anchor = folder ? path : folder_above(path);
    shared = shared ? shared_part(*shared, anchor) : anchor;
  }
  return shared.value_or("");
}

// A version may lie in several full sets, of which one is in the chain of this restore point.
void RestoreSelection::locate(const std::vector<std::int64_t>& ancestors) {
  std::string list;
  for (std::int64_t sequence : ancestors) {
    list += (list.empty() ? "" : ",") + std::to_string(sequence);
  }
  index_.database().exec(
      "UPDATE temp.chosen SET set_sequence = l.set_sequence, tar_offset = l.tar_offset"
      " FROM location l WHERE l.version = temp.chosen.version AND l.set_sequence IN (" +
      list + ")");
}

void RestoreSelection::mark(const std::string& path) {
  SQLite::Statement s(index_.database(), "UPDATE temp.chosen SET marked = 1 WHERE key = ?");
  bind_blob(s, 1, path_key(path));
  s.exec();
}

void RestoreSelection::each(std::initializer_list<EntryType> types, Order order,
                            const std::function<void(const IndexEntry&)>& visit) {
  std::string list;
  for (EntryType type : types) {
    list += (list.empty() ? "" : ",") + std::to_string(static_cast<int>(type));
  }
  const char* by = order == Order::kByPath      ? "c.key"
                   : order == Order::kByContent ? "c.set_sequence, c.tar_offset, c.key"
                                                : "c.key DESC";
  const char* marked = order == Order::kMarkedDeepestFirst ? " AND c.marked = 1" : "";
  SQLite::Statement s(index_.database(),
                      "SELECT c.key FROM temp.chosen c JOIN version v ON v.id = c.version"
                      " WHERE v.type IN (" +
                          list + ")" + marked + " ORDER BY " + by);
  while (s.executeStep()) {
    auto entry = index_.find(set_, path_from_key(column_blob(s, 0)));
    if (entry) visit(*entry);
  }
}

Error RestoreSelection::nothing_matched(const std::string& typed, const std::string& path,
                                        bool anchored) {
  std::string text = fmt::format("{}: not there on {}", printable(typed),
                                 format_local(session_.set(set_).started));
  auto seen = anchored ? session_.last_seen(path) : std::nullopt;
  if (!seen) {
    return Error(ErrorKind::kNoMatch, text,
                 "kestrum trace " + session_.job_name() + " " + printable(base_name(path)) +
                     " looks through every restore point")
        .about_path(typed);
  }
  return Error(ErrorKind::kNoMatch,
               fmt::format("{}; last seen {}", text, format_local(session_.set(*seen).started)),
               "add --as-of last-seen")
      .about_path(typed);
}

}  // namespace kestrum
