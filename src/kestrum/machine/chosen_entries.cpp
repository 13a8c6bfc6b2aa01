#include "kestrum/machine/chosen_entries.h"

#include "kestrum/machine/index_rows.h"
#include "kestrum/select/path_order.h"

namespace kestrum {

ChosenEntries::ChosenEntries(Index& index, SetId set)
    : index_(index), database_(index.database()), set_(set) {
  database_.exec(
      // Never dropped: that would need every statement of the connection to be at its end.
      "CREATE TEMP TABLE IF NOT EXISTS chosen(key BLOB PRIMARY KEY, version INTEGER,"
      " marked INTEGER DEFAULT 0) WITHOUT ROWID;"
      "CREATE TEMP TABLE IF NOT EXISTS group_place(link_group INTEGER PRIMARY KEY, set_sequence,"
      " tar_offset);"
      "DELETE FROM temp.chosen; DELETE FROM temp.group_place");
}

void ChosenEntries::add_below(const std::string& path) {
  SQLite::Statement s(
      database_,
      std::string("INSERT OR IGNORE INTO temp.chosen(key, version) SELECT p.key, v.id FROM path p"
                  " JOIN version v ON v.path = p.id WHERE v.first <= ?1"
                  " AND (v.until IS NULL OR v.until > ?1)") +
          (path.empty() ? "" : kBelowPath));
  s.bind(1, set_.sequence());
  if (!path.empty()) bind_below(s, 2, path);
  s.exec();
}

void ChosenEntries::add(const std::string& path, std::int64_t version) {
  auto& s = index_.statement("INSERT OR IGNORE INTO temp.chosen(key, version) VALUES(?, ?)");
  bind_blob(s, 1, path_key(path));
  s.bind(2, version);
  s.exec();
}

bool ChosenEntries::has(const std::string& path) {
  SQLite::Statement s(database_, "SELECT 1 FROM temp.chosen WHERE key = ?");
  bind_blob(s, 1, path_key(path));
  return s.executeStep();
}

std::uint64_t ChosenEntries::number(const char* query) {
  return static_cast<std::uint64_t>(database_.execAndGet(query).getInt64());
}

std::uint64_t ChosenEntries::count() {
  return number("SELECT count(*) FROM temp.chosen");
}

ChosenEntries::Totals ChosenEntries::totals() {
  SQLite::Statement all(
      database_,
      "SELECT coalesce(sum(v.type <> 1), 0), coalesce(sum(iif(v.type = 0 AND v.link_group = 0,"
      " v.size, 0)), 0), coalesce(max(v.link_group <> 0), 0)"
      " FROM temp.chosen c CROSS JOIN version v ON v.id = c.version");
  all.executeStep();
  auto column = [&](int at) { return static_cast<std::uint64_t>(all.getColumn(at).getInt64()); };
  Totals totals{column(0), column(1)};
  if (column(2) == 0) return totals;
  totals.bytes += number(
      "SELECT coalesce(sum(size), 0) FROM (SELECT DISTINCT v.link_group, v.size, v.digest"
      " FROM temp.chosen c CROSS JOIN version v ON v.id = c.version"
      " WHERE v.type = 0 AND v.link_group <> 0)");
  return totals;
}

void ChosenEntries::each_path(
    const std::function<void(const std::string& path, bool folder)>& visit) {
  SQLite::Statement s(
      database_,
      "SELECT c.key, v.type FROM temp.chosen c JOIN version v ON v.id = c.version ORDER BY c.key");
  while (s.executeStep()) {
    visit(path_from_key(column_blob(s, 0)),
          s.getColumn(1).getInt() == static_cast<int>(EntryType::kFolder));
  }
}

// A version may lie in several full sets, of which one is in the chain of this restore point.
void ChosenEntries::locate(const std::vector<std::int64_t>& ancestors) {
  std::string list;
  for (std::int64_t sequence : ancestors) {
    list += (list.empty() ? "" : ",") + std::to_string(sequence);
  }
  place_ =
      " LEFT JOIN location l ON l.version = v.id AND l.set_sequence = (SELECT max(m.set_sequence)"
      " FROM location m WHERE m.version = v.id AND m.set_sequence IN (" +
      list + "))";
  // The names of one file may refer to several copies of its content.
  database_.exec(
      "DELETE FROM temp.group_place;"
      "INSERT OR REPLACE INTO temp.group_place SELECT v.link_group, l.set_sequence, l.tar_offset"
      " FROM version v INDEXED BY version_group CROSS JOIN path p ON p.id = v.path"
      " CROSS JOIN temp.chosen c ON c.key = p.key AND c.version = v.id" +
      place_ + " WHERE v.link_group <> 0 ORDER BY l.set_sequence DESC, l.tar_offset DESC");
}

void ChosenEntries::mark(const std::string& path) {
  auto& s = index_.statement("UPDATE temp.chosen SET marked = 1 WHERE key = ?");
  bind_blob(s, 1, path_key(path));
  s.exec();
}

void ChosenEntries::each(std::initializer_list<EntryType> types, Order order,
                         const std::function<void(const IndexEntry&)>& visit) {
  std::string list;
  for (EntryType type : types) {
    list += (list.empty() ? "" : ",") + std::to_string(static_cast<int>(type));
  }
  const char* by = order == Order::kByPath ? "c.key"
                   : order == Order::kByContent
                       ? "coalesce(g.set_sequence, l.set_sequence),"
                         " coalesce(g.tar_offset, l.tar_offset), v.link_group, c.key"
                       : "c.key DESC";
  const char* marked = order == Order::kMarkedDeepestFirst ? " AND c.marked = 1" : "";
  std::string places;
  if (order == Order::kByContent) {
    places = place_ + " LEFT JOIN temp.group_place g ON g.link_group = v.link_group";
  }
  SQLite::Statement s(database_,
                      "SELECT c.key, c.version FROM temp.chosen c"
                      " CROSS JOIN version v ON v.id = c.version" +
                          places + " WHERE v.type IN (" + list + ")" + marked + " ORDER BY " + by);
  while (s.executeStep()) {
    auto entry = index_.find(set_, path_from_key(column_blob(s, 0)), s.getColumn(1).getInt64());
    if (entry) visit(*entry);
  }
}

}  // namespace kestrum
