// Opening the index, and its schema.
#include <fcntl.h>
#include <sqlite3.h>
#include <sys/stat.h>
#include <unistd.h>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/uuid.h"
#include "kestrum/machine/content_key.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/machine/packed_journal.h"

namespace kestrum {
namespace {

constexpr int kSchemaVersion = 12;
constexpr int kBusyMilliseconds = 10'000;  // to wait for other processes

constexpr const char* kSchema = R"sql(
CREATE TABLE IF NOT EXISTS sets(
  sequence INTEGER PRIMARY KEY, kind INTEGER NOT NULL, base INTEGER, started INTEGER NOT NULL,
  roots TEXT NOT NULL, seal BLOB, ledger BLOB NOT NULL, lines INTEGER NOT NULL,
  lacking TEXT, suspect_why TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS path(id INTEGER PRIMARY KEY, key BLOB NOT NULL UNIQUE);
CREATE TABLE IF NOT EXISTS owner(
  id INTEGER PRIMARY KEY, uid INTEGER NOT NULL, gid INTEGER NOT NULL, user BLOB NOT NULL,
  grp BLOB NOT NULL, UNIQUE(uid, gid, user, grp));
CREATE TABLE IF NOT EXISTS version(
  id INTEGER PRIMARY KEY, path INTEGER NOT NULL, first INTEGER NOT NULL, until INTEGER,
  ended INTEGER, type INTEGER NOT NULL, size INTEGER NOT NULL, mtime INTEGER NOT NULL,
  ctime INTEGER NOT NULL, inode INTEGER NOT NULL, mode INTEGER NOT NULL, owner INTEGER NOT NULL,
  digest BLOB, extra BLOB, flags INTEGER NOT NULL, link_group INTEGER NOT NULL,
  content INTEGER);
CREATE INDEX IF NOT EXISTS version_group ON version(link_group) WHERE link_group <> 0;
CREATE INDEX IF NOT EXISTS version_inode ON version(inode) WHERE link_group <> 0;
CREATE INDEX IF NOT EXISTS version_noise ON version(path) WHERE (flags & 64) <> 0;
CREATE INDEX IF NOT EXISTS version_disk ON version(path) WHERE flags >= 256;
CREATE INDEX IF NOT EXISTS version_gone ON version(until) WHERE ended = 6;
CREATE INDEX IF NOT EXISTS version_path ON version(path, first);
CREATE TABLE IF NOT EXISTS location(
  version INTEGER NOT NULL, set_sequence INTEGER NOT NULL, tar_offset INTEGER NOT NULL,
  holder INTEGER, ranges BLOB, PRIMARY KEY(version, set_sequence)) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS location_ranges ON location(set_sequence) WHERE ranges IS NOT NULL;
CREATE TABLE IF NOT EXISTS stretch(
  set_sequence INTEGER NOT NULL, tar_offset INTEGER NOT NULL, start INTEGER NOT NULL,
  at INTEGER NOT NULL, list BLOB NOT NULL, PRIMARY KEY(set_sequence, tar_offset, start)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS anchor(
  digest INTEGER NOT NULL, set_sequence INTEGER NOT NULL, tar_offset INTEGER NOT NULL,
  start INTEGER NOT NULL, PRIMARY KEY(digest, set_sequence, tar_offset, start)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS journal_listed(
  tar_offset INTEGER PRIMARY KEY, key BLOB NOT NULL, number INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS journal_stretch(
  tar_offset INTEGER NOT NULL, start INTEGER NOT NULL, at INTEGER NOT NULL,
  list BLOB NOT NULL, PRIMARY KEY(tar_offset, start)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS journal(
  id INTEGER PRIMARY KEY, key BLOB NOT NULL, type INTEGER NOT NULL, size INTEGER NOT NULL, mtime INTEGER NOT NULL,
  ctime INTEGER NOT NULL, inode INTEGER NOT NULL, mode INTEGER NOT NULL, owner INTEGER NOT NULL,
  digest BLOB, extra BLOB, flags INTEGER NOT NULL, link_group INTEGER NOT NULL,
  tar_offset INTEGER, in_set INTEGER, in_key BLOB, link_offset INTEGER, ranges BLOB);
CREATE TABLE IF NOT EXISTS journal_batch(
  first INTEGER PRIMARY KEY, rows INTEGER NOT NULL, packed BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS journal_mark(mark TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS carried(
  key BLOB PRIMARY KEY, type INTEGER NOT NULL, size INTEGER NOT NULL, mtime INTEGER NOT NULL,
  ctime INTEGER NOT NULL, inode INTEGER NOT NULL, mode INTEGER NOT NULL, owner INTEGER NOT NULL,
  digest BLOB, extra BLOB, flags INTEGER NOT NULL, link_group INTEGER NOT NULL,
  tar_offset INTEGER, in_set INTEGER, in_key BLOB, link_offset INTEGER, ranges BLOB) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS dead(
  tar_offset INTEGER PRIMARY KEY, key BLOB NOT NULL, why INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS begun(
  kind INTEGER NOT NULL, base INTEGER, folder TEXT NOT NULL, begun INTEGER NOT NULL,
  packing TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS closed_part(
  number INTEGER PRIMARY KEY, name TEXT NOT NULL, bytes INTEGER NOT NULL,
  tar_offset INTEGER NOT NULL, tar_end INTEGER NOT NULL, digest BLOB NOT NULL,
  cut_start INTEGER NOT NULL, cut_end INTEGER NOT NULL, cut_path BLOB, cut_head BLOB,
  so_far BLOB, size INTEGER, inode INTEGER, mtime INTEGER, ctime INTEGER, disk INTEGER,
  blocks BLOB);
)sql";

constexpr const char* kForgetAll =
    "DROP TABLE IF EXISTS sets; DROP TABLE IF EXISTS path; DROP TABLE IF EXISTS owner;"
    "DROP TABLE IF EXISTS version; DROP TABLE IF EXISTS location; DROP TABLE IF EXISTS journal;"
    "DROP TABLE IF EXISTS carried; DROP TABLE IF EXISTS begun; DROP TABLE IF EXISTS closed_part;"
    "DROP TABLE IF EXISTS dead; DROP TABLE IF EXISTS stretch; DROP TABLE IF EXISTS anchor;"
    "DROP TABLE IF EXISTS journal_listed; DROP TABLE IF EXISTS journal_stretch;"
    "DROP TABLE IF EXISTS journal_mark; DROP TABLE IF EXISTS journal_batch";

bool has_column(SQLite::Database& database, const std::string& table, const std::string& name) {
  return database
             .execAndGet("SELECT count(*) FROM pragma_table_info('" + table + "') WHERE name = '" +
                         name + "'")
             .getInt() != 0;
}

void add_column(SQLite::Database& database, const std::string& table, const std::string& name,
                const std::string& type) {
  if (!has_column(database, table, name))
    database.exec("ALTER TABLE " + table + " ADD COLUMN " + name + " " + type);
}

}  // namespace

Index::Index(const std::string& path)
    : path_(path), pending_(path.empty() || path == ":memory:" ? "" : path + kPendingSuffix) {
  try {
    open(path);
  } catch (const SQLite::Exception& error) {
    int code = error.getErrorCode() & 0xff;
    bool in_use = code == SQLITE_BUSY || code == SQLITE_LOCKED;
    if (in_use) throw Error(ErrorKind::kBusy, path + ": in use by another process");
    bool broken = code == SQLITE_CORRUPT || code == SQLITE_NOTADB;
    if (!broken || path == ":memory:") throw;
    // It is only a cache: start an empty one.
    statements_.clear();
    database_.reset();
    for (const char* suffix : kIndexFiles) ::unlink((path + suffix).c_str());
    open(path);
  }
}

std::unique_ptr<Index> Index::reader() const {
  if (path_.empty() || path_ == ":memory:") return nullptr;
  std::unique_ptr<Index> reader(new Index);
  reader->path_ = path_;
  reader->database_ = std::make_unique<SQLite::Database>(
      path_, SQLite::OPEN_READONLY | SQLite::OPEN_NOMUTEX, kBusyMilliseconds);
  reader->database_->exec("PRAGMA cache_size = -4000");  // KiB
  add_packed_journal(*reader->database_);
  reader->look_at_journal();
  return reader;
}

Index::~Index() {
  transaction_.reset();
  statements_.clear();
}

// Up to version 9 a pending set was a row of `sets`.
void Index::settle_pending_row() {
  database_->exec("ALTER TABLE sets RENAME TO sets_9");
  database_->exec(kSchema);
  database_->exec(
      "INSERT INTO sets SELECT sequence, kind, base, started, roots, seal, ledger, lines, lacking,"
      " suspect_why FROM sets_9 WHERE NOT pending");
  std::optional<IndexedSet> pending;
  {
    SQLite::Statement s(*database_, std::string(kSets) + "_9 WHERE pending");
    if (s.executeStep()) pending = read_set(s);
  }
  if (pending) {
    std::string mark = make_uuid();
    SQLite::Statement s(*database_, "INSERT INTO journal_mark VALUES(?)");
    s.bind(1, mark);
    s.exec();
    pending_.write({*pending, mark});
  }
  database_->exec("DROP TABLE sets_9");
}

// Up to version 11 content was found by its size and the beginning of its digest, each by itself.
void Index::find_content_by_key() {
  add_column(*database_, "version", "content", "INTEGER");
  database_->exec(
      "DROP INDEX IF EXISTS version_content;"
      "UPDATE version SET content = content_key(size, digest) WHERE digest IS NOT NULL");
}

void Index::open(const std::string& path) {
  if (!path.empty() && path != ":memory:") {  // which files are copied is nobody else's business
    Fd file(::open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600));
    if (file) ::fchmod(file.get(), 0600);
  }
  database_ = std::make_unique<SQLite::Database>(
      path, SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE | SQLite::OPEN_NOMUTEX, kBusyMilliseconds);
  // Bytes; of a new index: one that is there keeps what it has.
  database_->exec("PRAGMA page_size = " + std::to_string(kPageBytes));
  database_->exec("PRAGMA journal_mode = WAL");
  database_->exec("PRAGMA synchronous = FULL");
  database_->exec("PRAGMA wal_autocheckpoint = 4000");  // pages: most runs write each page once
  database_->exec("PRAGMA temp_store = FILE");
  database_->exec("PRAGMA cache_size = -16000");  // KiB
  database_->exec("PRAGMA threads = 1");          // to help with what is sorted
  add_packed_journal(*database_);
  add_content_key(*database_);
  int version = database_->execAndGet("PRAGMA user_version").getInt();
  if (version > kSchemaVersion) {
    throw Error(ErrorKind::kFailed, path + ": a later version of Kestrum made this index",
                "use that version; without this file, which is only a cache, this one goes on too");
  }
  if (version < kSchemaVersion) {
    SQLite::Transaction transaction(*database_);
    bool same_but_journal = version == 6, without_ranges = version == 6 || version == 7;
    for (const char* table : {"journal", "carried", "location"}) {
      if (without_ranges) add_column(*database_, table, "ranges", "BLOB");
    }
    if (version >= 6) {
      add_column(*database_, "closed_part", "disk", "INTEGER");
      add_column(*database_, "closed_part", "blocks", "BLOB");
    }
    if (same_but_journal) database_->exec("ALTER TABLE journal RENAME TO journal_6");
    if (version > 0 && version < 6) database_->exec(kForgetAll);
    bool by_size = version >= 6 && !has_column(*database_, "version", "content");
    if (by_size) find_content_by_key();
    database_->exec(kSchema);
    database_->exec(kContentIndex);
    if (same_but_journal) {
      database_->exec(std::string("INSERT INTO journal(") + kRowColumns + ") SELECT " +
                      kRowColumns + " FROM journal_6 ORDER BY key; DROP TABLE journal_6");
    }
    if (has_column(*database_, "sets", "pending")) settle_pending_row();
    if (version > 0) database_->exec(kJournalKeys);  // up to version 10 some journals had none
    database_->exec("PRAGMA user_version = " + std::to_string(kSchemaVersion));
    transaction.commit();
  }
  database_->exec(
      "CREATE TEMP TABLE IF NOT EXISTS links(device INTEGER, inode INTEGER, path BLOB, link_group "
      "INTEGER,"
      " PRIMARY KEY(device, inode)) WITHOUT ROWID;"
      "CREATE TEMP TABLE IF NOT EXISTS fresh_stretch(digest INTEGER, tar_offset INTEGER, start "
      "INTEGER, PRIMARY KEY(digest, tar_offset, start)) WITHOUT ROWID;"
      "CREATE TEMP TABLE IF NOT EXISTS used_content(tar_offset INTEGER PRIMARY KEY);"
      "CREATE TEMP TABLE IF NOT EXISTS touched(path INTEGER PRIMARY KEY, version INTEGER, same "
      "INTEGER,"
      " row INTEGER)");
  database_->execAndGet("SELECT count(*) FROM (SELECT 1 FROM version LIMIT 1)");
  look_at_journal();
}

}  // namespace kestrum
