// The journal of the set being written.
#include "kestrum/base/error.h"
#include "kestrum/machine/index.h"
#include "kestrum/machine/index_rows.h"
#include "kestrum/select/path_order.h"

namespace kestrum {
namespace {

// What must agree, besides the content, of entries that are alike but for the name.
std::uint64_t metadata_hash(const Entry& entry, std::int64_t owner, const std::string& extra) {
  std::string text = extra;
  for (std::uint64_t number :
       {static_cast<std::uint64_t>(entry.mtime.seconds), std::uint64_t{entry.mtime.nanos},
        std::uint64_t{entry.mode}, static_cast<std::uint64_t>(owner), entry.link_group}) {
    std::uint8_t bytes[8];
    put_le64(bytes, number);
    text.append(as_text(bytes));
  }
  return std::hash<std::string>()(text) | 1;
}

std::uint64_t as_number(FileTime time) {
  return static_cast<std::uint64_t>(time.seconds) * 1'000'000'007 + time.nanos;
}

bool holds_content(const IndexEntry& entry) {
  const LedgerEntry& line = entry.line;
  return line.digest && line.tar_offset && !line.in_set && !line.in_path && !entry.unsettled;
}

}  // namespace

// A statement that was not stepped to its end keeps the snapshot of its transaction.
void Index::reset_statements() {
  for (auto& [sql, s] : statements_) s->reset();
}

void Index::must_not_be_pending() {
  auto set = pending();
  if (!set) return;
  throw Error(ErrorKind::kFailed,
              "the index: " + set->set.to_string() + " is pending, and its journal is needed");
}

void Index::begin_journal() {
  must_not_be_pending();
  reset_statements();
  transaction_.reset();
  staged_.reset();
  transaction_ = std::make_unique<SQLite::Transaction>(*database_);
  database_->exec(
      "DROP INDEX IF EXISTS journal_key; DELETE FROM journal; DELETE FROM journal_mark;"
      "DELETE FROM links; DELETE FROM temp.fresh_stretch");
  contents_.clear();
  last_key_.clear();
  journal_keyed_ = false;
}

void Index::journal_start() {
  begin_journal();
  database_->exec(kForgetBegun);
}

void Index::roll_back() {
  reset_statements();
  transaction_.reset();
  staged_.reset();
  forget_owners();  // those that were added in it are gone
  look_at_journal();
}

// Most journals are written in path order and read in the order they were written. Only what looks
// for a path, or comes out of order, needs the keys, which cost less at once than row by row.
void Index::need_journal_keys() {
  if (journal_keyed_) return;
  database_->exec("CREATE UNIQUE INDEX journal_key ON journal(key)");
  journal_keyed_ = true;
}

// What an earlier process, or a transaction that was taken back, left of it.
void Index::look_at_journal() {
  int keys = database_->execAndGet("SELECT count(*) FROM sqlite_master WHERE name = 'journal_key'");
  journal_keyed_ = keys != 0;
}

void Index::journal_put(const IndexEntry& entry) {
  std::string key = path_key(entry.line.entry.path);
  bool in_order = last_key_.empty() || last_key_ < key;
  if (!in_order) need_journal_keys();
  static const std::string kInsert = insert_row("journal");
  put_row(kInsert.c_str(), key, entry);
  if (in_order) last_key_ = std::move(key);
  const Entry& e = entry.line.entry;
  if (!entry.line.digest) return;
  if (e.size > kNotedAbove) contents_.note_size(e.size, as_number(e.mtime));
  if (!holds_content(entry)) return;
  std::int64_t row = database_->getLastInsertRowid();
  contents_.put(*entry.line.digest, 0, row);
  contents_.put(*entry.line.digest, metadata_hash(e, owner_id(e), pack_extra(e)), row);
}

void Index::put_row(const char* insert, const std::string& key, const IndexEntry& entry) {
  auto& s = statement(insert);
  bind_blob(s, 1, key);
  bind_metadata(s, 2, entry);
  if (entry.line.tar_offset) s.bind(13, static_cast<std::int64_t>(*entry.line.tar_offset));
  if (entry.line.in_set) s.bind(14, entry.line.in_set->sequence());
  if (entry.line.in_path) bind_blob(s, 15, path_key(*entry.line.in_path));
  if (entry.link_offset) s.bind(16, static_cast<std::int64_t>(*entry.link_offset));
  if (!entry.line.ranges.empty()) bind_blob(s, 17, pack_ranges(entry.line.ranges));
  s.exec();
}

std::optional<ContentLocation> Index::journal_duplicate(const Entry& entry, const Digest& digest,
                                                        bool alike) {
  std::int64_t owner = 0;
  std::string extra;
  if (alike) {
    owner = owner_id(entry);
    extra = pack_extra(entry);
  }
  auto row = contents_.find(digest, alike ? metadata_hash(entry, owner, extra) : 0);
  if (!row) return std::nullopt;
  auto& s = statement(
      "SELECT key, tar_offset FROM journal WHERE id = ?1 AND size = ?2 AND digest = ?3"
      " AND in_set IS NULL AND in_key IS NULL AND tar_offset IS NOT NULL AND (flags & ?4) = 0"
      " AND (NOT ?5 OR (mtime = ?6 AND mode = ?7 AND owner = ?8 AND coalesce(extra, x'') = ?9"
      "   AND link_group = ?10))");
  s.bind(1, *row);
  s.bind(2, static_cast<std::int64_t>(entry.size));
  bind_blob(s, 3, as_text(digest));
  s.bind(4, kUnsettledFlag);
  s.bind(5, alike ? 1 : 0);
  bind_time(s, 6, entry.mtime);
  s.bind(7, static_cast<std::int64_t>(entry.mode));
  s.bind(8, owner);
  bind_blob(s, 9, extra);
  s.bind(10, static_cast<std::int64_t>(entry.link_group));
  if (!s.executeStep()) return std::nullopt;
  return ContentLocation{
      {}, static_cast<std::uint64_t>(s.getColumn(1).getInt64()), path_from_key(column_blob(s, 0))};
}

std::optional<IndexEntry> Index::find_row(const char* query, const std::string& path) {
  auto& s = statement(query);
  bind_blob(s, 1, path_key(path));
  if (!s.executeStep()) return std::nullopt;
  IndexEntry entry;
  read_row(s, entry);
  return entry;
}

std::optional<IndexEntry> Index::journal_find(const std::string& path) {
  need_journal_keys();
  static const std::string kQuery =
      std::string("SELECT ") + kRowColumns + " FROM journal WHERE key = ?";
  return find_row(kQuery.c_str(), path);
}

void Index::journal_drop(const std::string& path) {
  need_journal_keys();
  auto& s = statement("DELETE FROM journal WHERE key = ?");
  bind_blob(s, 1, path_key(path));
  s.exec();
}

std::uint64_t Index::journal_moves() {
  auto& s = statement(
      "SELECT coalesce(sum(min(gone, moved)), 0) FROM (SELECT sum(type = 6) AS gone,"
      " sum((flags & 16) != 0) AS moved FROM journal WHERE digest IS NOT NULL"
      " AND (type = 6 OR (flags & 16) != 0) GROUP BY size, digest)");
  s.executeStep();
  return static_cast<std::uint64_t>(s.getColumn(0).getInt64());
}

bool Index::journal_has_size(std::uint64_t size, std::optional<FileTime> mtime) {
  std::optional<std::uint64_t> time;
  if (mtime) time = as_number(*mtime);
  return contents_.has_size(size, time);
}

std::optional<FirstName> Index::first_link(std::uint64_t device, std::uint64_t inode,
                                           const FirstName& name) {
  auto& find = statement("SELECT path, link_group FROM links WHERE device = ? AND inode = ?");
  find.bind(1, static_cast<std::int64_t>(device));
  find.bind(2, static_cast<std::int64_t>(inode));
  if (find.executeStep()) {
    return FirstName{column_blob(find, 0),
                     static_cast<std::uint64_t>(find.getColumn(1).getInt64())};
  }
  auto& insert = statement("INSERT INTO links VALUES(?, ?, ?, ?)");
  insert.bind(1, static_cast<std::int64_t>(device));
  insert.bind(2, static_cast<std::int64_t>(inode));
  bind_blob(insert, 3, name.path);
  insert.bind(4, static_cast<std::int64_t>(name.group));
  insert.exec();
  return std::nullopt;
}

void Index::each_journal(const std::function<void(IndexEntry&)>& visit) {
  SQLite::Statement s(*database_, std::string("SELECT ") + kRowColumns + " FROM journal ORDER BY " +
                                      (journal_keyed_ ? "key" : "id"));
  while (s.executeStep()) {
    IndexEntry entry;
    read_row(s, entry);
    visit(entry);
  }
}

void Index::read_row(SQLite::Statement& s, IndexEntry& entry) {
  entry.line.entry.path = path_from_key(column_blob(s, 0));
  read_metadata(s, 1, entry);
  if (!s.getColumn(12).isNull()) {
    entry.line.tar_offset = static_cast<std::uint64_t>(s.getColumn(12).getInt64());
  }
  if (!s.getColumn(13).isNull()) {
    entry.line.in_set = SetId::from_sequence(s.getColumn(13).getInt64());
  }
  if (!s.getColumn(14).isNull()) entry.line.in_path = path_from_key(column_blob(s, 14));
  if (!s.getColumn(15).isNull()) {
    entry.link_offset = static_cast<std::uint64_t>(s.getColumn(15).getInt64());
  }
  if (!s.getColumn(16).isNull()) entry.line.ranges = unpack_ranges(column_blob(s, 16));
}

}  // namespace kestrum
