#include "kestrum/machine/differing_paths.h"

#include <set>
#include <utility>
#include <vector>

#include "kestrum/machine/index_rows.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

SQLite::Database& with_table(SQLite::Database& database) {
  database.exec(
      "CREATE TEMP TABLE IF NOT EXISTS differing(what INTEGER, key BLOB, before INTEGER, after "
      "INTEGER,"
      " digest BLOB, source BLOB, PRIMARY KEY(what, key)) WITHOUT ROWID;"
      "CREATE INDEX IF NOT EXISTS temp.differing_by ON differing(what, before);"
      "DELETE FROM temp.differing");
  return database;
}

}  // namespace

DifferingPaths::DifferingPaths(Index& index)
    : database_(with_table(index.database())),
      put_(database_, "INSERT OR REPLACE INTO temp.differing VALUES(?, ?, ?, ?, ?, NULL)") {}

void DifferingPaths::add(const DifferingPath& found, const std::optional<Digest>& digest) {
  put_.bind(1, static_cast<int>(found.what));
  bind_blob(put_, 2, path_key(found.path));
  put_.bind(3, static_cast<std::int64_t>(found.before));
  put_.bind(4, static_cast<std::int64_t>(found.after));
  if (digest) {
    bind_blob(put_, 5, as_text(*digest));
  } else {
    put_.bind(5);
  }
  put_.exec();
  put_.reset();
}

void DifferingPaths::find_moves(
    const std::function<std::optional<Digest>(const std::string&)>& digest_of) {
  SQLite::Statement fresh(database_,
                          "SELECT key, after, digest FROM temp.differing d WHERE what = 0"
                          " AND after > 0 AND EXISTS (SELECT 1 FROM temp.differing g WHERE"
                          " g.what = 3 AND g.before = d.after) ORDER BY key");
  SQLite::Statement gone(database_,
                         "SELECT key FROM temp.differing WHERE what = 3 AND before = ?"
                         " AND digest = ? ORDER BY key");
  std::vector<std::pair<std::string, std::string>> moves;  // keys: new, gone
  std::set<std::string> used;
  while (fresh.executeStep()) {
    std::string key = column_blob(fresh, 0), digest = column_blob(fresh, 2);
    if (digest.empty()) {
      auto read = digest_of(path_from_key(key));
      if (!read) continue;
      digest = as_text(*read);
    }
    gone.reset();
    gone.bind(1, fresh.getColumn(1).getInt64());
    bind_blob(gone, 2, digest);
    while (gone.executeStep()) {
      std::string source = column_blob(gone, 0);
      if (!used.insert(source).second) continue;
      moves.emplace_back(key, source);
      break;
    }
  }
  gone.reset();
  SQLite::Statement change(
      database_, "UPDATE temp.differing SET what = 2, source = ? WHERE what = 0 AND key = ?");
  SQLite::Statement drop(database_, "DELETE FROM temp.differing WHERE what = 3 AND key = ?");
  for (const auto& [key, source] : moves) {
    bind_blob(change, 1, source);
    bind_blob(change, 2, key);
    change.exec();
    change.reset();
    bind_blob(drop, 1, source);
    drop.exec();
    drop.reset();
  }
}

void DifferingPaths::each(const std::function<void(const DifferingPath&)>& visit) {
  SQLite::Statement s(
      database_, "SELECT what, key, before, after, source FROM temp.differing ORDER BY what, key");
  while (s.executeStep()) {
    DifferingPath found;
    found.what = static_cast<Difference>(s.getColumn(0).getInt());
    found.path = path_from_key(column_blob(s, 1));
    found.before = static_cast<std::uint64_t>(s.getColumn(2).getInt64());
    found.after = static_cast<std::uint64_t>(s.getColumn(3).getInt64());
    if (!s.getColumn(4).isNull()) found.moved_from = path_from_key(column_blob(s, 4));
    visit(found);
  }
}

}  // namespace kestrum
