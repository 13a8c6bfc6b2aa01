#include "kestrum/machine/missing_entries.h"

#include "kestrum/machine/index_rows.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

SQLite::Database& with_tables(SQLite::Database& database) {
  database.exec(
      "CREATE TEMP TABLE IF NOT EXISTS missing(key BLOB PRIMARY KEY, version INTEGER,"
      " sequence INTEGER, size INTEGER, mtime INTEGER, digest BLOB) WITHOUT ROWID;"
      "CREATE TEMP TABLE IF NOT EXISTS newcomers(size INTEGER, mtime INTEGER, path BLOB);"
      "CREATE INDEX IF NOT EXISTS temp.missing_by ON missing(size, mtime);"
      "DELETE FROM temp.missing; DELETE FROM temp.newcomers");
  return database;
}

}  // namespace

MissingEntries::MissingEntries(Index& index)
    : database_(with_tables(index.database())),
      put_(database_, "INSERT OR REPLACE INTO temp.missing VALUES(?, ?, ?, ?, ?, ?)"),
      put_candidate_(database_,
                     "INSERT INTO temp.newcomers SELECT ?1, ?2, ?3 WHERE EXISTS"
                     " (SELECT 1 FROM temp.missing WHERE size = ?1 AND mtime = ?2)") {}

void MissingEntries::put(const PathVersion& version, SetId set) {
  const LedgerEntry& line = version.entry.line;
  bind_blob(put_, 1, path_key(line.entry.path));
  put_.bind(2, version.entry.version);
  put_.bind(3, set.sequence());
  put_.bind(4, static_cast<std::int64_t>(line.entry.size));
  bind_time(put_, 5, line.entry.mtime);
  if (line.digest) {
    bind_blob(put_, 6, as_text(*line.digest));
  } else {
    put_.bind(6);
  }
  put_.exec();
  put_.reset();
}

void MissingEntries::drop(const std::string& path) {
  SQLite::Statement s(database_, "DELETE FROM temp.missing WHERE key = ?");
  bind_blob(s, 1, path_key(path));
  s.exec();
}

std::uint64_t MissingEntries::count() {
  return static_cast<std::uint64_t>(
      database_.execAndGet("SELECT count(*) FROM temp.missing").getInt64());
}

std::vector<SetId> MissingEntries::sets() {
  std::vector<SetId> sets;
  SQLite::Statement s(database_,
                      "SELECT DISTINCT sequence FROM temp.missing ORDER BY sequence DESC");
  while (s.executeStep()) sets.push_back(SetId::from_sequence(s.getColumn(0).getInt64()));
  return sets;
}

void MissingEntries::each(SetId set,
                          const std::function<void(const std::string&, std::int64_t)>& visit) {
  SQLite::Statement s(database_, "SELECT key, version FROM temp.missing WHERE sequence = ?");
  s.bind(1, set.sequence());
  while (s.executeStep()) {
    visit(path_from_key(column_blob(s, 0)), s.getColumn(1).getInt64());
  }
}

void MissingEntries::put_candidate(const std::string& path, std::uint64_t size, FileTime mtime) {
  put_candidate_.bind(1, static_cast<std::int64_t>(size));
  bind_time(put_candidate_, 2, mtime);
  bind_blob(put_candidate_, 3, path);
  put_candidate_.exec();
  put_candidate_.reset();
}

void MissingEntries::each_candidate(
    const std::function<bool(const std::string& path, const Digest& digest,
                             const std::string& candidate)>& visit) {
  SQLite::Statement s(
      database_,
      "SELECT DISTINCT m.key, m.digest, n.path FROM temp.missing m JOIN temp.newcomers n"
      " ON n.size = m.size AND n.mtime = m.mtime WHERE m.size > 0 AND m.digest IS NOT NULL"
      " ORDER BY m.key");
  std::string done;
  while (s.executeStep()) {
    std::string key = column_blob(s, 0);
    Digest digest;
    if (key == done || !column_digest(s, 1, digest)) continue;
    if (visit(path_from_key(key), digest, column_blob(s, 2))) done = key;
  }
}

}  // namespace kestrum
